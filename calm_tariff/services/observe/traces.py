"""By what somebody is traced through the database: how they are named, their mail addresses, and the entries of the
record that are theirs."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

from sqlalchemy import Select, func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.erasing import Trace
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.community import Answer, Question
from calm_tariff.store.admit.consumers import Consumer, Member, MemberInvitation
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.admit.subscriptions import SubscriptionOverride
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.compose.apis import Api
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product
from calm_tariff.store.house.people import Person
from calm_tariff.store.observe import erasing, own_rows
from calm_tariff.store.observe.alerts import Alert
from calm_tariff.store.observe.erasing import Entries

# The title of a question is its own where it is at least so long.
_A_TITLE = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class Traced:
    """Members, their mail addresses, what they and theirs are named by (longer names first, for one may hold another),
    and the entries of the record that are by them or about what is theirs."""

    members: Sequence[Member]
    addresses: Collection[str]
    traces: Sequence[Trace]
    entries: Entries


def of_consumer(session: Session, consumer: Consumer) -> Traced:
    """Everybody who belongs to a consumer, or did, with the organisation itself."""
    members = list(session.scalars(select(Member).where(Member.consumer_id == consumer.id).order_by(Member.id)))
    invited = session.scalars(select(MemberInvitation.email).where(MemberInvitation.consumer_id == consumer.id)).all()
    certain = not _is_ours(session, consumer.name)
    traces = [Trace(text=consumer.name, instead=f"{own_rows.GONE} consumer {consumer.id}", certain=certain)]
    for application in session.scalars(select(Application).where(Application.consumer_id == consumer.id)):
        instead = f"{own_rows.GONE} application {application.id}"
        traces.append(Trace(text=application.name, instead=instead, certain=False))
        if application.contact:
            traces.append(Trace(text=application.contact, instead=own_rows.GONE))
    return _traced(session, members, invited, traces, _about(session, consumer.id))


def of_member(session: Session, member: Member) -> Traced:
    """One member."""
    return _traced(session, [member], (), (), ())


def _traced(
    session: Session,
    members: Sequence[Member],
    invited: Iterable[str],
    traces: Iterable[Trace],
    about: Iterable[tuple[str, Collection[int]]],
) -> Traced:
    ids = [member.id for member in members]
    asked = list(session.scalars(select(Question.id).where(Question.member_id.in_(ids))))
    answered = select(Answer.id).where(or_(Answer.member_id.in_(ids), Answer.question_id.in_(asked)))
    entries = Entries(
        by=[f"member {member}" for member in ids],
        about=[*about, ("member", ids), ("question", asked), ("answer", list(session.scalars(answered)))],
    )
    found = {member.email: f"{own_rows.GONE} {member.id}" for member in members if "@" in member.email}
    spoken = erasing.addresses_in(session, entries) | set(invited)
    addresses = dict.fromkeys(spoken - _of_others(session, ids), own_rows.GONE) | found
    named = [*traces, *_names(session, members), *_titles(session, ids)]
    named += [Trace(text=address, instead=instead) for address, instead in addresses.items()]
    return Traced(
        members=members,
        addresses=addresses.keys(),
        traces=sorted(named, key=lambda trace: -len(trace.text)),
        entries=entries,
    )


def _names(session: Session, members: Sequence[Member]) -> list[Trace]:
    """The members' names. One word alone, or what somebody else is called as well, names nobody for certain."""
    found = []
    for member in members:
        others = select(func.count()).where(Member.name == member.name, Member.consumer_id != member.consumer_id)
        alike = session.scalar(others) or session.scalar(select(func.count()).where(Person.name == member.name))
        certain = " " in member.name and not alike and not _is_ours(session, member.name)
        found.append(Trace(text=member.name, instead=f"{own_rows.GONE} member {member.id}", certain=certain))
    return found


def _titles(session: Session, ids: Collection[int]) -> list[Trace]:
    """The titles of what they asked."""
    found = []
    for title in session.scalars(select(Question.title).where(Question.member_id.in_(ids))):
        others = select(func.count()).where(Question.title == title, Question.member_id.not_in(ids))
        certain = len(title) >= _A_TITLE and not session.scalar(others)
        found.append(Trace(text=title, instead=own_rows.GONE, certain=certain))
    return found


def _of_others(session: Session, ids: Collection[int]) -> set[str]:
    """The addresses of everybody else."""
    members = session.scalars(select(Member.email).where(Member.id.not_in(ids)))
    return {*members, *session.scalars(select(Person.email))}


def _is_ours(session: Session, name: str) -> bool:
    """Whether something of the provider's is called that."""
    kinds = (Api, Product, Plan, Meter, Portal, ConsumerGroup, Provider)
    return any(session.scalar(select(func.count()).where(kind.name == name)) for kind in kinds)


def _about(session: Session, consumer: int) -> list[tuple[str, Collection[int]]]:
    """What is a consumer's, as the record names it."""
    held = own_rows.subscriptions(consumer)
    kinds: dict[str, Select[int]] = {
        "application": own_rows.applications(consumer),
        "key": own_rows.keys(consumer),
        "subscription": held,
        "override": select(SubscriptionOverride.id).where(SubscriptionOverride.subscription_id.in_(held)),
        "request": own_rows.requests(consumer),
        "alert": select(Alert.id).where(Alert.consumer_id == consumer),
    }
    found: list[tuple[str, Collection[int]]] = [("consumer", [consumer])]
    return found + [(kind, list(session.scalars(ids))) for kind, ids in kinds.items()]
