"""Closing a consumer's account: what that brings with it is said before; what is due comes with the last invoice."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from calm_tariff.core import moves as rules
from calm_tariff.core import names
from calm_tariff.core.lifecycles import CONSUMER, KEY, UNDECIDED, UNPAID, VALID_KEY, move
from calm_tariff.core.membership import STAY
from calm_tariff.core.periods import day_start, local_day, moment_of, month_of
from calm_tariff.core.sentences import closing_in_words
from calm_tariff.services.admit import moves, on_behalf
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.moves import Wanted
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.house.signing_in import proof, sessions
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.services.serve import trials
from calm_tariff.store.admit import merged, subscribers
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.admit.consumers import Consumer, MemberInvitation
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.settle.money_documents import Invoice

# Who closes accounts for consumers.
CLOSERS = ("product manager", "owner")


@dataclass(frozen=True, slots=True, kw_only=True)
class Ending:
    """A subscription that ends with the account; `last_day` where its plan asks for notice, which hinders that until
    it has ended with this day or later."""

    subscription_id: int
    application: str
    offer: str
    last_day: date | None


@dataclass(frozen=True, slots=True, kw_only=True)
class ClosingView:
    """What closing the account would bring with it: the subscriptions that end, and all else in sentences. Until what
    is `hindered` has ended, it cannot be closed."""

    name: str
    subscriptions: list[Ending]
    said: list[str]
    hindered: bool


def consequences(ctx: Context) -> ClosingView:
    """What closing one's account would bring with it. Raises `NotAllowed` for whoever does not own it."""
    owner = ctx.actor.consumer_to("run the account")
    with ctx.reading() as session:
        endings = _endings(session, ctx, owner)
        waiting, keys = _requests(session, owner), _keys(session, owner)
        invited = select(func.count()).where(MemberInvitation.consumer_id == owner)
        shut_out = [m.name for m in subscribers.members_of(session, [owner]) if m.role not in STAY]
        mine = Invoice.consumer_id.in_(merged.with_merged(session, owner))
        unpaid = select(Invoice.number).where(mine, Invoice.state.in_(UNPAID))
        said = closing_in_words(
            keys=len(keys),
            requests=len(waiting),
            invitations=session.scalar(invited) or 0,
            shut_out=shut_out,
            unpaid=[number or "" for number in session.scalars(unpaid.order_by(Invoice.id))],
            last_month=_last_month(session, ctx, owner),
        )
        hindered = any(each.last_day for each in endings)
        return ClosingView(name=ctx.actor.consumer, subscriptions=endings, said=said, hindered=hindered)


def consequences_for(ctx: Context, consumer_id: int) -> ClosingView:
    """What closing a consumer's account by the provider's word would bring with it. Raises `NotFound`."""
    ctx.actor.must_be(*CLOSERS)
    return consequences(_acting(ctx, consumer_id))


def close_for(ctx: Context, consumer_id: int, name: str) -> None:
    """Close a consumer's account by the provider's word; its name must be typed, and its members are told. Raises
    `NotFound`, `Invalid`, naming the field, or `Conflict` where it is none that can be closed, or a plan asks for
    notice."""
    ctx.actor.must_be(*CLOSERS)
    own = _acting(ctx, consumer_id)
    names.typed_again(name, own.actor.consumer)
    _closed(own, MEMBERS)


def close(ctx: Context, realm: Realm, name: str, password: str, address: str = "") -> None:
    """Close one's account: its subscriptions end now, its keys are revoked, what it asked for is taken back, and of its
    members only owners and billing can sign in. Its name must be typed. Raises `NotAllowed`, `TooMany`, `Invalid`,
    naming the field, or `Conflict` where a plan asks for notice."""
    ctx.actor.consumer_to("run the account")
    names.typed_again(name, ctx.actor.consumer)
    proof.by_password(ctx, realm, password, address)
    _closed(ctx, realm)


def _acting(ctx: Context, consumer_id: int) -> Context:
    """A context that acts for a consumer's owner, in transactions of its own."""
    with ctx.transaction() as session:
        return ctx.acting(on_behalf.acting_for(session, ctx, consumer_id).actor)


def _closed(ctx: Context, realm: Realm) -> None:
    owner = ctx.actor.consumer_to("run the account")
    with ctx.transaction() as session:
        alive = _alive(session, owner)
    for subscription_id in alive:
        trials.end_trial(ctx, subscription_id)  # one that is over already is, before it is ended
    with ctx.transaction() as session:
        stamps.hold(session, ctx, stamps.SHIPPING)
        consumer = locked(session, Consumer, owner)
        assert consumer is not None
        told, last = subscribers.members_of(session, [owner]), _last_month(session, ctx, owner)
        applications = session.scalars(select(Application.id).where(Application.consumer_id == owner)).all()
        all_locked(session, Application, applications)
        for request in all_locked(session, AccessRequest, _requests(session, owner)):
            asking.end_by_asker(session, ctx, request)
        for subscription in all_locked(session, Subscription, _alive(session, owner)):
            moves.arrive(session, ctx, subscription)
            if subscription.state != "ended":
                moves.make(session, ctx, subscription, Wanted(kind="end"))
        for key in all_locked(session, ApiKey, _keys(session, owner)):
            key.state, key.revoked_at = move(KEY, key.label, key.state, "revoked"), ctx.now
        for member in told:
            if member.role not in STAY:
                sessions.end_all(session, realm, member.id)
        session.execute(delete(MemberInvitation).where(MemberInvitation.consumer_id == owner))
        consumer.state, consumer.closed_at = move(CONSUMER, "the account", consumer.state, "closed"), ctx.now
        auditing.note(session, ctx, "closed the account", ("consumer", owner, consumer.name))
        fields = {"organisation": consumer.name, "by": ctx.actor.name, "last": f"{last:%B %Y}" if last else ""}
        notify(session, ctx, members(told), Notice(kind="account closed", fields=fields, page="/invoices"))
        stamps.touch(session, ctx)


def _endings(session: Session, ctx: Context, owner: int) -> list[Ending]:
    found = []
    for identifier in _alive(session, owner):
        subscription = session.get_one(Subscription, identifier)
        standing = moves.standing_of(session, ctx, subscription)
        first = rules.earliest_end(standing)
        found.append(
            Ending(
                subscription_id=subscription.id,
                application=subscription.application.name,
                offer=f"{subscription.plan.product.name} · {subscription.plan.name}",
                last_day=local_day(first - 1, standing.where) if first > ctx.now_us else None,
            )
        )
    return found


def _last_month(session: Session, ctx: Context, owner: int) -> date | None:
    """The month of the last invoice, where a subscription has been alive in the one that runs."""
    where = zone_of(session)
    month = month_of(local_day(ctx.now_us, where))
    begin = moment_of(day_start(month.start, where))
    alive = Subscription.ended_at.is_(None) | (Subscription.ended_at > begin)
    query = select(Subscription.id).join(Application).where(Application.consumer_id == owner, alive)
    return month.start if session.scalar(query.limit(1)) is not None else None


def _alive(session: Session, owner: int) -> list[int]:
    query = select(Subscription.id).join(Application).where(Application.consumer_id == owner)
    return list(session.scalars(query.where(Subscription.state != "ended").order_by(Subscription.id)))


def _requests(session: Session, owner: int) -> list[int]:
    query = select(AccessRequest.id).join(Application).where(Application.consumer_id == owner)
    return list(session.scalars(query.where(AccessRequest.state.in_(UNDECIDED))))


def _keys(session: Session, owner: int) -> list[int]:
    query = select(ApiKey.id).join(Application).where(Application.consumer_id == owner)
    return list(session.scalars(query.where(ApiKey.state.in_(VALID_KEY))))
