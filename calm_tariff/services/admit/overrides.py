"""Limits of single subscriptions: in place of the plan's limit of the same name, with a reason and an end."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, cast

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import limits as rules
from calm_tariff.core import stays
from calm_tariff.core.counts import Override
from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.events import Thing
from calm_tariff.core.lifecycles import CALLING
from calm_tariff.core.limits import Limit, Quota
from calm_tariff.core.periods import day_start, instant_of, local_day, moment_of
from calm_tariff.core.sentences import limit_sentence, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services.admit import timelines
from calm_tariff.services.admit.subscriptions import tell
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.compose import credential_fields
from calm_tariff.store.admit.subscriptions import Subscription, SubscriptionOverride
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.products import Plan


@dataclass(frozen=True, slots=True, kw_only=True)
class OverrideView:
    """An override of a subscription. `instead_of` is the plan limit's sentence where it replaces one;
    `state`: in force, over, lifted."""

    id: int
    subscription_id: int
    plan: str
    application: str
    name: str
    sentence: str
    instead_of: str | None
    limit: dict[str, Any]
    reason: str
    made_at: datetime
    made_by: str
    ends_at: datetime
    state: str


@dataclass(frozen=True, slots=True, kw_only=True)
class HeldLimit:
    """A plan's limit that holds for a subscription, and could be overridden."""

    subscription_id: int
    application: str
    plan: str
    name: str
    sentence: str
    limit: dict[str, Any]


@dataclass(frozen=True, slots=True)
class OverrideTyped:
    """An override as somebody typed it: a limit as in a plan's terms, why, and its last local day."""

    limit: dict[str, Any]
    reason: str
    until: date


def of_consumer(ctx: Context, consumer_id: int) -> list[OverrideView]:
    """All overrides of a consumer's subscriptions, newest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = (
            select(SubscriptionOverride, Subscription)
            .join(Subscription, Subscription.id == SubscriptionOverride.subscription_id)
            .where(Subscription.application.has(consumer_id=consumer_id))
            .order_by(SubscriptionOverride.id.desc())
        )
        return [_view(o, s, ctx.now) for o, s in session.execute(query)]


def held_by(ctx: Context, consumer_id: int) -> list[HeldLimit]:
    """The plans' limits that hold for a consumer's subscriptions."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(Subscription).where(
            Subscription.application.has(consumer_id=consumer_id), Subscription.state.in_(CALLING)
        )
        return [
            HeldLimit(
                subscription_id=s.id,
                application=s.application.name,
                plan=f"{s.plan.product.name} · {s.plan.name}",
                name=limit.name,
                sentence=words(limit_sentence(limit)),
                limit=write(limit),
            )
            for s in session.scalars(query.order_by(Subscription.id))
            for limit in _terms(s, ctx.now).limits
        ]


def make(ctx: Context, subscription_id: int, typed: OverrideTyped) -> OverrideView:
    """Put a limit on one subscription until the end of a local day. Raises `Invalid`, `Conflict`, `NotFound`.

    Where the plan has a limit of that name, the new one takes its place and may be laxer.
    """
    ctx.actor.must_be("product manager", "operations")
    with ctx.transaction() as session:
        subscription = session.get(Subscription, subscription_id)
        if subscription is None:
            raise NotFound("there is no such subscription", str(subscription_id))
        return put(session, ctx, subscription, typed)


def put(session: Session, ctx: Context, subscription: Subscription, typed: OverrideTyped) -> OverrideView:
    """The same within a transaction, by somebody who may."""
    if subscription.state not in CALLING:
        raise Conflict(f"it is {subscription.state}; only one that lets calls through can be overridden", "state")
    if not typed.reason.strip():
        raise Invalid("say why, so that the record can answer for it", "reason")
    limit = _fitting(session, _terms(subscription, ctx.now), typed.limit, "limit")
    where = zone_of(session)
    if typed.until < local_day(ctx.now_us, where):
        raise Invalid("must not be past", "until")
    if limit.name in {o.limit["name"] for o in _current(session, [subscription.id], ctx.now)}:
        raise Conflict(f"{limit.name} has an override already; lift it first", "limit.name")
    end = day_start(typed.until.fromordinal(typed.until.toordinal() + 1), where)
    made = SubscriptionOverride(
        subscription_id=subscription.id,
        limit=write(limit),
        reason=typed.reason.strip(),
        made_at=ctx.now,
        made_by=ctx.actor.name,
        ends_at=moment_of(end),
    )
    session.add(made)
    session.flush()
    view = _view(made, subscription, ctx.now)
    before = {"limit": view.instead_of} if view.instead_of else None
    after = {"limit": view.sentence, "until": typed.until.isoformat()}
    auditing.note(
        session,
        ctx,
        "overrode a limit",
        _subject(subscription, limit.name),
        before=before,
        after=after,
        why=made.reason,
    )
    _tell(session, ctx, subscription, limit.name, f"{view.sentence}, until the end of {typed.until:%-d %B %Y}")
    stamps.touch(session, ctx)
    return view


def checked(session: Session, plan: Plan, raw: dict[str, Any], field: str) -> Limit:
    """A limit that a subscription to a plan may have of its own. Raises `Invalid` or `Conflict`, naming the field."""
    return _fitting(session, read(PlanTerms, plan.revisions[-1].terms), raw, field)


def _fitting(session: Session, terms: PlanTerms, raw: dict[str, Any], field: str) -> Limit:
    limit = limit_of(raw, field)
    rules.check_name(limit.name, f"{field}.name")
    credential_fields.refuse_limits(session, [(field, limit)])
    if isinstance(limit, Quota) and limit.meter not in terms.meters():
        raise Invalid(f"the plan speaks of no meter {limit.meter!r}", f"{field}.meter")
    return limit


def lift(ctx: Context, override_id: int) -> OverrideView:
    """End an override at once. Raises `NotFound`, or `Conflict` where it is over."""
    ctx.actor.must_be("product manager", "operations")
    with ctx.transaction() as session:
        found = locked(session, SubscriptionOverride, override_id)
        if found is None:
            raise NotFound("there is no such override", str(override_id))
        if found.lifted_at or found.ends_at <= ctx.now:
            raise Conflict("it is over already", str(override_id))
        found.lifted_at, found.lifted_by = ctx.now, ctx.actor.name
        subscription = session.get_one(Subscription, found.subscription_id)
        view = _view(found, subscription, ctx.now)
        auditing.note(session, ctx, "lifted an override", _subject(subscription, view.name), {"limit": view.sentence})
        _tell(session, ctx, subscription, view.name, view.instead_of or "no limit of this name any more")
        stamps.touch(session, ctx)
        return view


def of_all(session: Session) -> dict[int, tuple[Override, ...]]:
    """The limits that stand on subscriptions, or stood there, each with its time, by subscription."""
    found: dict[int, tuple[Override, ...]] = {}
    for o in session.scalars(select(SubscriptionOverride).order_by(SubscriptionOverride.id)):
        end = min(o.ends_at, o.lifted_at) if o.lifted_at else o.ends_at
        made = Override(limit=limit_of(o.limit), start_us=instant_of(o.made_at), end_us=instant_of(end))
        found[o.subscription_id] = (*found.get(o.subscription_id, ()), made)
    return found


def _current(session: Session, subscriptions: list[int] | None, now: datetime) -> list[SubscriptionOverride]:
    query = select(SubscriptionOverride).where(
        SubscriptionOverride.ends_at > now, SubscriptionOverride.lifted_at.is_(None)
    )
    if subscriptions is not None:
        query = query.where(SubscriptionOverride.subscription_id.in_(subscriptions))
    return list(session.scalars(query.order_by(SubscriptionOverride.id)))


def limit_of(raw: dict[str, Any], field: str = "limit") -> Limit:
    """A limit as it is written in terms. Raises `Invalid`, naming the field."""
    limit = cast(Limit, read(cast(Any, Limit), raw, field))
    rules.check(limit, field)
    return limit


def _terms(subscription: Subscription, now: datetime) -> PlanTerms:
    """The terms a subscription is under, or was last."""
    stay = stays.last_begun(timelines.of(subscription), instant_of(now))
    revision = next(s.revision for s in subscription.stays if s.id == stay.id)
    return read(PlanTerms, revision.terms)


def _view(o: SubscriptionOverride, subscription: Subscription, now: datetime) -> OverrideView:
    limit = limit_of(o.limit)
    planned = next((x for x in _terms(subscription, now).limits if x.name == limit.name), None)
    state = "lifted" if o.lifted_at else "over" if o.ends_at <= now else "in force"
    return OverrideView(
        id=o.id,
        subscription_id=o.subscription_id,
        plan=f"{subscription.plan.product.name} · {subscription.plan.name}",
        application=subscription.application.name,
        name=limit.name,
        sentence=words(limit_sentence(limit)),
        instead_of=words(limit_sentence(planned)) if planned else None,
        limit=o.limit,
        reason=o.reason,
        made_at=o.made_at,
        made_by=o.made_by,
        ends_at=o.ends_at,
        state=state,
    )


def _subject(subscription: Subscription, name: str) -> Thing:
    application = subscription.application
    return Thing("subscription", subscription.id, f"{application.name}: {name}", application.consumer_id)


def _tell(session: Session, ctx: Context, subscription: Subscription, name: str, rule: str) -> None:
    offer = f"{subscription.plan.product.name} · {subscription.plan.name}"
    tell(session, ctx, subscription, "limit changed", {"offer": offer, "limit": name, "rule": rule})
