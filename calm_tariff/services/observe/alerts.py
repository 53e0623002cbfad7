"""Alerts that consumers set: looked at again and again, and told once in each window in which one is reached."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core import alerts as rules
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.periods import day_start, local_day, moment_of, month_of
from calm_tariff.core.sentences import (
    allowance_alert_in_words,
    allowance_reached_in_words,
    charge_reached_in_words,
    money_alert_in_words,
)
from calm_tariff.services.base import auditing, jobs, reaching, webhooks
from calm_tariff.services.base.context import Context, provider_of, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.base.sealing import seal, unseal
from calm_tariff.services.observe import allowances
from calm_tariff.services.observe.allowances import Gauge
from calm_tariff.services.settle import running_month
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import hold
from calm_tariff.store.observe.alerts import Alert, AlertHook, AlertReached
from calm_tariff.store.serve import call_queries

SEND = "send a webhook"
# So many alerts may a consumer have.
MOST = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class AlertView:
    """An alert in words, of which subscription (none: of the month's charge), who set it, and when it was last seen
    reached."""

    id: int
    said: str
    subscription_id: int | None
    made_by: str
    reached_at: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Hook:
    """Where alerts are sent as webhooks, and since when."""

    url: str
    set_by: str
    set_at: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class HookMade:
    """A hook just set. `secret` is what its webhooks are signed with: shown this once."""

    hook: Hook
    secret: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Alerts:
    """A consumer's alerts, and where they are sent besides."""

    alerts: list[AlertView]
    hook: Hook | None


@dataclass(frozen=True, slots=True, kw_only=True)
class AlertTyped:
    """An alert to set: so many percent of an allowance of a subscription, or an amount of the month's charge."""

    subscription_id: int | None = None
    allowance: str | None = None
    percent: int | None = None
    amount: Decimal | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Outgoing:
    """A webhook to be sent now: to which address, signed."""

    url: str
    signed: webhooks.Signed


def own(ctx: Context) -> Alerts:
    """The signed-in consumer's alerts."""
    owner = ctx.actor.own_consumer
    with ctx.reading() as session:
        hook = session.get(AlertHook, owner)
        return Alerts(alerts=list(_views(session, owner)), hook=_hook(hook) if hook else None)


def make(ctx: Context, typed: AlertTyped) -> Alerts:
    """Set an alert. Raises `Invalid` or `Conflict`, naming the field, and `NotFound` for another's subscription."""
    owner = ctx.actor.consumer_to("set alerts")
    with ctx.transaction() as session:
        hold(session, Consumer, owner)
        made = Alert(consumer_id=owner, made_by_id=ctx.actor.member_id, made_at=ctx.now)
        if typed.subscription_id is not None:
            gauges = {g.name for g in allowances.of_consumer(session, ctx.now, owner) if _is(g, typed.subscription_id)}
            if not gauges:
                raise NotFound("there is no such subscription with an allowance", str(typed.subscription_id))
            if typed.allowance not in gauges:
                raise Invalid(f"must be one of {', '.join(sorted(gauges))}", "allowance")
            made.subscription_id, made.allowance = typed.subscription_id, typed.allowance
            made.percent = rules.percent(typed.percent or 0)
        elif typed.amount is not None:
            made.amount = rules.amount(typed.amount)
        else:
            raise Invalid("say of which allowance, or which amount", "amount")
        same = select(func.count()).where(
            Alert.consumer_id == owner,
            *(
                column.is_(None) if value is None else column == value
                for column, value in (
                    (Alert.subscription_id, made.subscription_id),
                    (Alert.allowance, made.allowance),
                    (Alert.percent, made.percent),
                    (Alert.amount, made.amount),
                )
            ),
        )
        if session.scalar(same):
            raise Conflict("there is this alert already", "amount" if made.percent is None else "percent")
        if (session.scalar(select(func.count()).where(Alert.consumer_id == owner)) or 0) >= MOST:
            raise Conflict(f"there are {MOST} alerts already; take some away first", "alerts")
        session.add(made)
        session.flush()
        auditing.note(session, ctx, "set an alert", ("alert", made.id, _about(session, made)))
    return own(ctx)


def take_away(ctx: Context, alert_id: int) -> Alerts:
    """Take an alert of one's own away. Raises `NotFound` for another's, just as for none."""
    owner = ctx.actor.consumer_to("set alerts")
    with ctx.transaction() as session:
        hold(session, Consumer, owner)
        found = session.get(Alert, alert_id)
        if found is None or found.consumer_id != owner:
            raise NotFound("there is no such alert", str(alert_id))
        auditing.note(session, ctx, "took an alert away", ("alert", found.id, _about(session, found)))
        session.execute(delete(AlertReached).where(AlertReached.alert_id == alert_id))
        session.delete(found)
    return own(ctx)


def set_hook(ctx: Context, url: str) -> HookMade:
    """Have alerts sent to an address as signed webhooks; what they are signed with is made anew. Raises `Invalid`,
    naming the field."""
    owner = ctx.actor.consumer_to("set alerts")
    address = reaching.for_webhooks(replace(ctx, reach=ctx.reach.public()), url)
    if not ctx.sealing_secret:
        raise Conflict("this installation has no secret to seal with (CALM_VALUE_SECRET)", "url")
    secret = webhooks.new_secret()
    with ctx.transaction() as session:
        hold(session, Consumer, owner)
        hook = session.get(AlertHook, owner) or AlertHook(consumer_id=owner)
        hook.url, hook.sealed = address, seal(ctx.sealing_secret, secret)
        hook.set_by, hook.set_at = ctx.actor.name, ctx.now
        session.add(hook)
        auditing.note(session, ctx, "had alerts sent as webhooks", ("consumer", owner, ctx.actor.consumer))
        return HookMade(hook=_hook(hook), secret=secret)


def drop_hook(ctx: Context) -> None:
    """Have alerts sent as webhooks no more."""
    owner = ctx.actor.consumer_to("set alerts")
    with ctx.transaction() as session:
        hold(session, Consumer, owner)
        hook = session.get(AlertHook, owner)
        if hook is not None:
            session.delete(hook)
            auditing.note(session, ctx, "had alerts sent as webhooks no more", ("consumer", owner, ctx.actor.consumer))


def look(ctx: Context) -> int:
    """Look at the alerts of every consumer, and tell of those that are reached now; returns of how many. A consumer
    whose alerts cannot be looked at holds up nobody else's."""
    with ctx.transaction() as session:
        query = select(Alert.consumer_id).join(Consumer).where(Consumer.state.in_(("let in", "suspended"))).distinct()
        consumers = session.scalars(query.order_by(Alert.consumer_id)).all()
    return one_by_one(consumers, lambda consumer: _look_at(ctx, consumer))


def outgoing(ctx: Context, consumer_id: int, event_id: str, body: str) -> Outgoing | None:
    """A webhook as it is to be sent now; None where the consumer wants none any more. Raises `Sealed`."""
    with ctx.transaction() as session:
        hook = session.get(AlertHook, consumer_id)
        if hook is None:
            return None
        secret = unseal(ctx.sealing_secret, hook.sealed)
        return Outgoing(url=hook.url, signed=webhooks.signed(secret, event_id, ctx.now, body))


def _look_at(ctx: Context, consumer_id: int) -> bool:
    """Tell of a consumer's alerts that are reached; whether any was."""
    with ctx.transaction() as session:
        hold(session, Consumer, consumer_id)
        alerts = session.scalars(select(Alert).where(Alert.consumer_id == consumer_id).order_by(Alert.id)).all()
        told = False
        if any(alert.percent is not None for alert in alerts):
            held = allowances.standing_of(session, ctx.now, consumer_id)
            gauges = {(g.subscription_id, g.quota.name): g for g in held}
            for alert in alerts:
                found = gauges.get((alert.subscription_id or 0, alert.allowance or ""))
                if found is not None and alert.percent is not None:
                    told = _of_allowance(session, ctx, alert, found) or told
        month = month_of(local_day(ctx.now_us, zone_of(session)))
        window = day_start(month.start, zone_of(session))
        of_money = [alert for alert in alerts if alert.amount is not None and not _known(session, alert, window)]
        if of_money:  # once all of a month are told, it is not worked out again
            charge = running_month.charge_of(session, ctx, consumer_id)
            for alert in of_money:
                if alert.amount is not None and charge >= alert.amount:
                    said = charge_reached_in_words(charge, provider_of(session).currency)
                    told = _tell(session, ctx, alert, window, said, charge) or told
        return told


def _of_allowance(session: Session, ctx: Context, alert: Alert, held: allowances.Held) -> bool:
    units, threshold = Decimal(held.quota.units), alert.percent or 0
    if not rules.reached(held.used, units, threshold) or _known(session, alert, held.window[0]):
        return False
    counted = call_queries.counted(session, held.consumer_id, held.window, held.scope)
    call = rules.first_reaching(counted, units, threshold)
    said = allowance_reached_in_words(held.used, units, held.quota.when_spent)
    return _tell(session, ctx, alert, held.window[0], said, held.used, call)


def _known(session: Session, alert: Alert, window_us: int) -> bool:
    return session.get(AlertReached, (alert.id, window_us)) is not None


def _tell(
    session: Session,
    ctx: Context,
    alert: Alert,
    window_us: int,
    said: str,
    value: Decimal,
    call: tuple[str, int] | None = None,
) -> bool:
    """Tell that an alert was reached in a window, unless that was told already."""
    seen = {"alert_id": alert.id, "window_us": window_us, "seen_at": ctx.now, "value": value}
    made = insert(AlertReached).values(**seen, call_id=call[0] if call else None).prefix_with("IGNORE")
    if not session.execute(made).rowcount:  # type: ignore[attr-defined]
        return False
    about, at = _about(session, alert), moment_of(call[1], zone_of(session)) if call else None
    fields = {"about": about, "said": said, "at": f"on {at:%-d %B at %H:%M:%S}" if at else ""}
    page = f"/usage?call={call[0]}" if call else "/usage"
    maker = session.get(Member, alert.made_by_id)
    told = {m.id: m for m in subscribers.members_who_may(session, alert.consumer_id, "run the account")}
    if maker is not None and maker.left_at is None:
        told[maker.id] = maker
    notify(session, ctx, members(told.values()), Notice(kind="alert reached", fields=fields, page=page))
    if session.get(AlertHook, alert.consumer_id) is not None:
        data: dict[str, Any] = {
            "alert": alert.id,
            "about": about,
            "said": said,
            "subscription": alert.subscription_id,
            "allowance": alert.allowance,
            "percent": alert.percent,
            "amount": str(alert.amount) if alert.amount is not None else None,
            "value": format(value.normalize(), "f"),
            "window_start": moment_of(window_us).isoformat(),
            "call": call[0] if call else None,
        }
        arguments = {
            "consumer": alert.consumer_id,
            "event": f"alert-{alert.id}-{window_us}",
            "body": webhooks.event("alert.reached", ctx.now, data),
        }
        jobs.write(session, ctx, SEND, f"alert {alert.id} to its webhook", arguments)
    return True


def _about(session: Session, alert: Alert) -> str:
    if alert.amount is not None:
        return money_alert_in_words(alert.amount, provider_of(session).currency)
    of = session.get_one(Subscription, alert.subscription_id)
    offer = f"{of.plan.product.name} · {of.plan.name}"
    return allowance_alert_in_words(alert.percent or 0, alert.allowance or "", of.application.name, offer)


def _views(session: Session, owner: int) -> Iterator[AlertView]:
    last = select(AlertReached.alert_id, func.max(AlertReached.seen_at)).group_by(AlertReached.alert_id)
    query = select(Alert, Member.name).join(Member, Member.id == Alert.made_by_id).where(Alert.consumer_id == owner)
    found = session.execute(query.order_by(Alert.id)).all()
    reached = dict(session.execute(last.where(AlertReached.alert_id.in_([a.id for a, _ in found]))).all())
    for alert, made_by in found:
        yield AlertView(
            id=alert.id,
            said=_about(session, alert),
            subscription_id=alert.subscription_id,
            made_by=made_by,
            reached_at=reached.get(alert.id),
        )


def _is(gauge: Gauge, subscription_id: int) -> bool:
    return gauge.subscription_id == subscription_id


def _hook(hook: AlertHook) -> Hook:
    return Hook(url=hook.url, set_by=hook.set_by, set_at=hook.set_at)
