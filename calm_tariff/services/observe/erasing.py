"""Erasing personal data: of everybody of an organisation whose account is closed, or of one member. Documents of money
stay with their sums, under another name; the record keeps its chain."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.chain import ERASED
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.membership import Belongs, role, without
from calm_tariff.core.periods import month_of, period_before
from calm_tariff.core.sentences import goes_in_words, stays_in_words
from calm_tariff.formats.addresses import looks
from calm_tariff.services.admit.organisation import belonging
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.observe import traces
from calm_tariff.services.observe.traces import Traced
from calm_tariff.store.admit.applications import Application, ApplicationBefore
from calm_tariff.store.admit.community import Answer, Question
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base import recording
from calm_tariff.store.base.locking import hold, locked
from calm_tariff.store.base.notices import Notice
from calm_tariff.store.base.record import Mail, RecordEnd
from calm_tariff.store.observe import erasing
from calm_tariff.store.settle.money_documents import ChargeRun, Invoice

ERASERS = ("owner",)


@dataclass(frozen=True, slots=True, kw_only=True)
class ErasingView:
    """What erasing would bring with it: what goes and what stays, in sentences, and what hinders it as yet. `name` is
    to be typed."""

    name: str
    goes: list[str]
    stays: list[str]
    hindered: list[str]


def of_consumer(ctx: Context, consumer_id: int) -> ErasingView:
    """What erasing the personal data of an organisation would bring with it. Raises `NotFound`."""
    ctx.actor.must_be(*ERASERS)
    with ctx.reading() as session:
        consumer = _consumer(session, consumer_id)
        invoices = session.scalar(select(func.count()).where(Invoice.consumer_id == consumer_id)) or 0
        return ErasingView(
            name=consumer.name,
            goes=_goes(session, traces.of_consumer(session, consumer), organisation=True),
            stays=stays_in_words(invoices=invoices, organisation=True),
            hindered=_hindered(session, consumer),
        )


def of_member(ctx: Context, member_id: int) -> ErasingView:
    """What erasing the personal data of a member would bring with it. Raises `NotFound`."""
    ctx.actor.must_be(*ERASERS)
    with ctx.reading() as session:
        member = _member(session, member_id)
        return ErasingView(
            name=member.name,
            goes=_goes(session, traces.of_member(session, member), organisation=False),
            stays=stays_in_words(invoices=0, organisation=False),
            hindered=_hindered_for(session, member),
        )


def erase_consumer(ctx: Context, consumer_id: int, name: str) -> None:
    """Erase the personal data of an organisation and of everybody who belonged to it; its name must be typed. Nothing
    brings it back. Raises `NotFound`, `Invalid`, or `Conflict` with what hinders it."""
    ctx.actor.must_be(*ERASERS)
    with ctx.transaction() as session:
        consumer = locked(session, Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        names.typed_again(name, consumer.name)
        _must_be_free(_hindered(session, consumer))
        whose = traces.of_consumer(session, consumer)
        erasing.erase_of_consumer(session, consumer_id)
        _erase_words_of(session, ctx, whose)
        consumer.look, consumer.shape = looks(consumer.name)
        consumer.erased_at = ctx.now
        subject = ("consumer", consumer.id, consumer.name)
        auditing.note(session, ctx, f"{ERASED} of an organisation", subject)
        _empty(session, whose)
        stamps.touch(session, ctx)


def erase_member(ctx: Context, member_id: int, name: str) -> None:
    """Erase the personal data of a member, who belongs to their organisation no more; their name must be typed. Nothing
    brings it back. Raises `NotFound`, `Invalid`, or `Conflict` with what hinders it."""
    ctx.actor.must_be(*ERASERS)
    with ctx.transaction() as session:
        member = _member(session, member_id)
        hold(session, Consumer, member.consumer_id)  # nobody comes or goes meanwhile
        session.refresh(member)
        names.typed_again(name, member.name)
        _must_be_free(_hindered_for(session, member))
        whose = traces.of_member(session, member)
        if member.left_at is None:
            belonging.part_with(session, ctx, member)
            recording.write_down(session)  # what was told of it just now goes as well
        erasing.erase_of_member(session, member_id)
        _erase_words_of(session, ctx, whose)
        subject = ("member", member_id, member.name)
        auditing.note(session, ctx, f"{ERASED} of a member", subject)
        _empty(session, whose)


def _erase_words_of(session: Session, ctx: Context, whose: Traced) -> None:
    erasing.erase_addressed(session, whose.addresses)
    erasing.erase_spoken(session, whose.traces)
    session.expire_all()
    for member in whose.members:
        member.erased_at, member.left_at = ctx.now, member.left_at or ctx.now


def _consumer(session: Session, consumer_id: int) -> Consumer:
    consumer = session.get(Consumer, consumer_id)
    if consumer is None:
        raise NotFound("there is no such consumer", str(consumer_id))
    return consumer


def _member(session: Session, member_id: int) -> Member:
    member = session.get(Member, member_id)
    if member is None:
        raise NotFound("there is no such member", str(member_id))
    return member


def _members(session: Session, consumer_id: int) -> list[Member]:
    """Everybody who belongs to a consumer, or did."""
    return list(session.scalars(select(Member).where(Member.consumer_id == consumer_id).order_by(Member.id)))


def _must_be_free(hindered: Sequence[str]) -> None:
    if hindered:
        raise Conflict(hindered[0], "it cannot be erased yet")


def _hindered(session: Session, consumer: Consumer) -> list[str]:
    """What hinders that a consumer is erased, in sentences."""
    if consumer.erased_at is not None:
        return ["It is erased already."]
    if consumer.state not in ("closed", "turned away"):
        return ["Its account is not closed."]
    within = select(Consumer.name).where(Consumer.merged_into_id == consumer.id, Consumer.erased_at.is_(None))
    found = [f"{name}, which was merged into it, is not erased." for name in session.scalars(within)]
    drafts = select(Invoice.period_start).where(Invoice.consumer_id == consumer.id, Invoice.state == "draft")
    for start in session.scalars(drafts.order_by(Invoice.period_start)):
        found.append(f"Its invoice for {start:%B %Y} is a draft.")
    last = _last_month(session, consumer.id)
    if last is not None:
        charged = select(ChargeRun.id).where(ChargeRun.period_start == last).limit(1)
        if session.scalar(charged) is None:
            found.append(f"{last:%B %Y}, the last month it is charged for, is not charged yet.")
    return found


def _hindered_for(session: Session, member: Member) -> list[str]:
    """What hinders that a member is erased, in sentences."""
    if member.erased_at is not None:
        return ["They are erased already."]
    if member.left_at is None and member.consumer.state != "closed":
        staying = [m for m in _members(session, member.consumer_id) if m.left_at is None]
        try:
            without([Belongs(m.id, role(m.role)) for m in staying], member.id)
        except Conflict:
            return [f"Nobody else owns the account of {member.consumer.name}."]
    return []


def _last_month(session: Session, consumer_id: int) -> date | None:
    """The first day of the last month that it is charged for: in which its last subscription ended, or the last that
    was over when its applications went to another."""
    where = zone_of(session)
    ended = select(func.max(Subscription.ended_at)).join(Application).where(Application.consumer_id == consumer_id)
    went = (
        select(func.min(Subscription.started_at), func.max(ApplicationBefore.until_at))
        .join(Subscription, Subscription.application_id == ApplicationBefore.application_id)
        .where(ApplicationBefore.consumer_id == consumer_id)
    )
    last, (first, left) = session.scalar(ended), session.execute(went).one()
    if left is not None:
        whole = period_before(month_of(left.astimezone(where).date()))
        return whole.start if first.astimezone(where).date() < whole.end else None
    return None if last is None else month_of(last.astimezone(where).date()).start


def _goes(session: Session, whose: Traced, *, organisation: bool) -> list[str]:
    ids = [member.id for member in whose.members]

    def count(*where: ColumnElement[bool]) -> int:
        return session.scalar(select(func.count()).where(*where)) or 0

    return goes_in_words(
        letters=count(Mail.recipient.in_(whose.addresses)),
        notices=count(Notice.audience == "member", Notice.audience_id.in_(ids)),
        posts=count(Question.member_id.in_(ids)) + count(Answer.member_id.in_(ids)),
        entries=len(erasing.entries_of(session, whose.entries, whose.traces)),
        organisation=organisation,
    )


def _empty(session: Session, whose: Traced) -> None:
    """Take the words of entries out of the record, by the entry just noted that tells of it."""
    recording.write_down(session)
    telling = session.get_one(RecordEnd, recording.END).number
    emptied = [each for each in erasing.entries_of(session, whose.entries, whose.traces) if each != telling]
    erasing.take_words_out(session, emptied, telling, whose.traces)
