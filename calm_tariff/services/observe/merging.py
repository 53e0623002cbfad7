"""Merging one organisation into another: its members, applications and all that goes on are the other's from then on,
while what it did and paid stays under its own id, for the other to see."""

from __future__ import annotations

from dataclasses import dataclass, replace

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import merging as rules
from calm_tariff.core import names
from calm_tariff.core.counts import for_a_consumer
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import CONSUMER, move
from calm_tariff.core.membership import role
from calm_tariff.core.merging import Merged
from calm_tariff.core.periods import local_day, month_of
from calm_tariff.core.sentences.account import merging_in_words
from calm_tariff.services.admit import cards, paying, payment_pauses
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.serve import standing
from calm_tariff.services.settle.accounts import booking
from calm_tariff.services.settle.periods import reckoning
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.applications import Application, ApplicationBefore
from calm_tariff.store.admit.consumers import Consumer, Member, MemberInvitation
from calm_tariff.store.base.locking import all_locked
from calm_tariff.store.observe import merging as rows
from calm_tariff.store.settle.money_documents import Adjustment, Invoice

MERGERS = ("product manager", "owner")


@dataclass(frozen=True, slots=True, kw_only=True)
class MergingView:
    """What merging an organisation into another would bring with it, in sentences, and what hinders it as yet. `name`,
    of the one that is no more by itself, is to be typed."""

    name: str
    into: str
    said: list[str]
    hindered: list[str]


def consequences(ctx: Context, consumer_id: int, into_id: int) -> MergingView:
    """What merging a consumer into another would bring with it. Raises `NotFound`."""
    ctx.actor.must_be(*MERGERS)
    with ctx.reading() as session:
        consumer, into = _consumer(session, consumer_id), _consumer(session, into_id)
        hindered = rules.hindered(_as_rule(consumer), _as_rule(into))
        said = [] if hindered else _said(session, ctx, consumer, into)
        return MergingView(name=consumer.name, into=into.name, said=said, hindered=hindered)


def merge(ctx: Context, consumer_id: int, into_id: int, name: str) -> None:
    """Merge a consumer into another; its name must be typed, and the members of both are told. Nothing parts the two
    again. Raises `NotFound`, `Invalid`, naming the field, or `Conflict` with what hinders it."""
    ctx.actor.must_be(*MERGERS)
    with ctx.transaction() as session:
        _consumer(session, consumer_id), _consumer(session, into_id)
        held = {each.id: each for each in all_locked(session, Consumer, {consumer_id, into_id})}
        consumer, into = held[consumer_id], held[into_id]
        names.typed_again(name, consumer.name)
        hindered = rules.hindered(_as_rule(consumer), _as_rule(into))
        if hindered:
            raise Conflict(hindered[0], "into")
        owned = _owned(session, into)
        coming = all_locked(session, Member, [m.id for m in _belonging(session, consumer)])
        told = [*coming, *_belonging(session, into)]
        _invited(session, consumer, into, owned=owned)
        rows.let_go(session, consumer.id)
        for member in coming:
            member.consumer, member.role = into, rules.role_there(role(member.role), owned=owned)
        applications = all_locked(session, Application, _applications(session, consumer))
        for application in applications:
            application.name = _name_there(session, application, consumer, into)
            application.consumer = into
            before = ApplicationBefore(application_id=application.id, until_at=ctx.now, consumer_id=consumer.id)
            session.add(before)
        for adjustment in all_locked(session, Adjustment, _adjustments(session, ctx, consumer)):
            adjustment.consumer = into
        for draft in all_locked(session, Invoice, _drafts(session, ctx, consumer, into)):
            session.delete(draft)
        session.flush()
        rows.hand_over(session, consumer.id, into.id)
        if paying.of(into) is None and (payment := paying.of(consumer)) is not None:
            # The card of the one that is no more pays for nobody.
            paying.keep(session, ctx, into, replace(payment, method="transfer"))
        consumer.state, consumer.closed_at = move(CONSUMER, "the account", consumer.state, "closed"), ctx.now
        consumer.merged_into_id = into.id
        if (card := cards.current(session, consumer.id)) is not None:
            cards.end(session, ctx, card)
        session.flush()
        payment_pauses.end(session, ctx, consumer)
        reckoning.forget(session, ctx)
        booking.use_credit(session, ctx, into.id)
        _note(session, ctx, consumer, into, applications=len(applications), members=len(coming))
        fields = {"organisation": into.name, "other": consumer.name, "by": ctx.actor.name}
        notify(session, ctx, members(told), Notice(kind="organisations merged", fields=fields, page="/"))
        stamps.touch(session, ctx)


def _note(session: Session, ctx: Context, consumer: Consumer, into: Consumer, **moved: int) -> None:
    subject = ("consumer", consumer.id, consumer.name)
    auditing.note(session, ctx, "merged an organisation into another", subject, after={"into": into.name, **moved})
    after = {"organisation": consumer.name, **moved}
    auditing.note(session, ctx, "took another organisation in", ("consumer", into.id, into.name), after=after)


def _consumer(session: Session, consumer_id: int) -> Consumer:
    found = session.get(Consumer, consumer_id)
    if found is None:
        raise NotFound("there is no such consumer", str(consumer_id))
    return found


def _as_rule(consumer: Consumer) -> Merged:
    return Merged(id=consumer.id, name=consumer.name, state=consumer.state)


def _belonging(session: Session, consumer: Consumer) -> list[Member]:
    query = select(Member).where(Member.consumer_id == consumer.id, Member.left_at.is_(None))
    return list(session.scalars(query.order_by(Member.id)))


def _applications(session: Session, consumer: Consumer) -> list[int]:
    return list(session.scalars(select(Application.id).where(Application.consumer_id == consumer.id)))


def _drafts(session: Session, ctx: Context, *both: Consumer) -> list[int]:
    """Drafts of the running month, which are no more what will be charged."""
    today = local_day(ctx.now_us, zone_of(session))
    running = Invoice.state == "draft", Invoice.period_end > today
    return list(session.scalars(select(Invoice.id).where(Invoice.consumer_id.in_([c.id for c in both]), *running)))


def _adjustments(session: Session, ctx: Context, consumer: Consumer) -> list[int]:
    """What somebody added to the charges of the running month, which the other one is charged."""
    running = month_of(local_day(ctx.now_us, zone_of(session))).start
    whose = Adjustment.consumer_id == consumer.id, Adjustment.period_start >= running
    return list(session.scalars(select(Adjustment.id).where(*whose)))


def _owned(session: Session, consumer: Consumer) -> bool:
    return bool(subscribers.members_who_may(session, consumer.id, "run the account"))


def _invited(session: Session, consumer: Consumer, into: Consumer, *, owned: bool) -> None:
    """Whoever was invited comes to the organisation that goes on, unless it has invited them itself."""
    mine = session.scalars(select(MemberInvitation.id).where(MemberInvitation.consumer_id == consumer.id)).all()
    there = set(session.scalars(select(MemberInvitation.email).where(MemberInvitation.consumer_id == into.id)))
    for invitation in all_locked(session, MemberInvitation, mine):
        if invitation.email in there:
            session.delete(invitation)
        else:
            invitation.role = rules.role_there(role(invitation.role), owned=owned)
            invitation.consumer = into


def _name_there(session: Session, application: Application, consumer: Consumer, into: Consumer) -> str:
    def taken(name: str) -> bool:
        both = Application.consumer_id.in_([consumer.id, into.id]), Application.id != application.id
        return session.scalar(select(Application.id).where(*both, Application.name == name).limit(1)) is not None

    return rules.name_there(application.name, taken)


def _said(session: Session, ctx: Context, consumer: Consumer, into: Consumer) -> list[str]:
    coming, owned = _belonging(session, consumer), _owned(session, into)
    applications = [session.get_one(Application, each) for each in _applications(session, consumer)]
    called = [(each.name, _name_there(session, each, consumer, into)) for each in applications]
    held = standing.quotas(session, ctx.now, consumer.id)
    issued = select(func.count()).where(Invoice.consumer_id == consumer.id, Invoice.state != "draft")
    return merging_in_words(
        name=consumer.name,
        into=into.name,
        members=[m.name for m in coming if rules.role_there(role(m.role), owned=owned) == m.role],
        owners=[m.name for m in coming if rules.role_there(role(m.role), owned=owned) != m.role],
        applications=len(applications),
        renamed=[(was, now) for was, now in called if was != now],
        shared=any(for_a_consumer(each.quota) for each in held),
        month=month_of(local_day(ctx.now_us, zone_of(session))).start,
        drafts=len(_drafts(session, ctx, consumer, into)),
        invoices=session.scalar(issued) or 0,
        portal=into.portal.name if into.portal_id != consumer.portal_id else "",
    )
