"""A suspended consumer calls nothing and loses nothing; notes about it are for colleagues alone."""

from __future__ import annotations

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.services.admit import applications, consumer_notes, suspending
from calm_tariff.services.base.context import Actor
from calm_tariff.services.observe import consumers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.record import Mail
from tests.office import Office


def ferries(office: Office) -> int:
    return office.consumers[0].member.consumer_id or 0


def test_it_is_suspended_with_a_reason_that_its_members_read_and_resumed(office: Office) -> None:
    own, consumer = office.acting(office.consumers[0]), ferries(office)
    suspending.suspend(office.manager, consumer, " They crawl every berth. ")
    assert suspending.told(own) == "They crawl every berth."
    assert suspending.told(office.acting(office.consumers[1])) == suspending.told(office.ctx) == ""
    office.clock.forward(hours=1)
    applications.register(own, "Calmer")  # what it does in the portal, it may still do
    suspending.resume(office.manager, consumer)
    shown = consumers.one(office.reviewer, consumer)
    (once,) = shown.suspensions
    assert (once.reason, once.suspended_by, once.resumed_by) == ("They crawl every berth.", "Ines", "Ines")
    assert once.end_at == office.ctx.now and shown.line.state == "let in" and suspending.told(own) == ""
    assert [e.action for e in shown.record][:2] == ["resumed a consumer", "suspended a consumer"]
    with office.ctx.transaction() as session:
        letters = session.scalars(select(Mail).where(Mail.recipient == "ferries@consumer.example").order_by(Mail.id))
        told = [(letter.subject, "They crawl every berth." in letter.body) for letter in letters][-2:]
        assert session.get_one(Subscription, office.consumers[0].subscription).state == "active"
    assert told == [
        ("The calls of Ferries are refused for now", True),
        ("The calls of Ferries are served again", False),
    ]


def test_who_may_not_or_says_nothing_suspends_nobody(office: Office) -> None:
    consumer = ferries(office)
    for role in ("reviewer", "finance"):
        with pytest.raises(NotAllowed):
            suspending.suspend(office.ctx.acting(Actor("Somebody", frozenset({role}))), consumer, "Because.")
    with pytest.raises(NotSignedIn):
        suspending.suspend(office.acting(office.consumers[1]), consumer, "They compete with us.")
    for reason in (" ", "x" * 2001):
        with pytest.raises(Invalid) as refused:
            suspending.suspend(office.manager, consumer, reason)
        assert refused.value.where == "reason"
    with pytest.raises(NotFound):
        suspending.suspend(office.manager, 10**9, "Because.")
    with pytest.raises(Conflict, match="not suspended"):
        suspending.resume(office.manager, consumer)
    assert suspending.told(office.acting(office.consumers[0])) == ""
    suspending.suspend(office.manager, consumer, "Because.")
    with pytest.raises(Conflict, match="it is suspended"):
        suspending.suspend(office.manager, consumer, "Once more.")


def test_one_that_waits_to_be_let_in_is_not_let_in_by_resuming_it(office: Office) -> None:
    with office.ctx.transaction() as session:
        session.get_one(Consumer, ferries(office)).state = "waiting"
    with pytest.raises(Conflict, match="it is waiting, not suspended"):
        suspending.resume(office.manager, ferries(office))


def test_a_note_is_kept_for_colleagues_and_taken_away_by_whoever_wrote_it(office: Office) -> None:
    consumer = ferries(office)
    (note,) = consumer_notes.write(office.finance, consumer, "Pays late, and always pays.")
    assert [n.text for n in consumers.one(office.reviewer, consumer).notes] == ["Pays late, and always pays."]
    with pytest.raises(NotFound, match="no such note of yours"):
        consumer_notes.take_away(office.reviewer, consumer, note.id)
    with pytest.raises(NotFound):
        consumer_notes.take_away(office.finance, office.consumers[1].member.consumer_id or 0, note.id)
    with pytest.raises(NotSignedIn):
        consumer_notes.write(office.acting(office.consumers[0]), consumer, "We do not.")
    for text in ("", "x" * 5001):
        with pytest.raises(Invalid):
            consumer_notes.write(office.finance, consumer, text)
    assert consumer_notes.take_away(office.finance, consumer, note.id) == []
