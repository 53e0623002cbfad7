"""What the outside says by itself: checked, applied once, and written down whatever was done about it."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest

from calm_tariff.core.errors import Invalid, NotSignedIn
from calm_tariff.services.admit import payment_pauses
from calm_tariff.services.settle.accounts import reminding
from calm_tariff.services.settle.handoff import hearing, mapped, showing
from calm_tariff.services.settle.handoff.showing import OutsideWordView
from calm_tariff.standins.money.billing_there import BillingThere
from calm_tariff.standins.telling import Event
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.base.notices import Notice
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office, terms
from tests.services.months import LATER, SEPTEMBER, at_once, record
from tests.services.settle.accounts.owing import pay, whose
from tests.services.settle.documents.recorded import issue
from tests.services.settle.handoff.outside import Outside, later


@pytest.fixture
def known(outside: Outside) -> Outside:
    """Ferries and Kayaks are customers outside."""
    outside.map(0)
    outside.map(1)
    return outside


def words(office: Office) -> list[OutsideWordView]:
    return showing.words(office.finance, PageQuery(sort="oldest")).rows


def held_up(office: Office, n: int = 0) -> str | None:
    with office.ctx.transaction() as session:
        pause = payment_pauses.running(session, whose(office, n))
        return pause.invoice if pause else None


def standing(office: Office, n: int = 0) -> str:
    rows = mapped.consumers(office.finance, PageQuery()).rows
    return next(each.standing for each in rows if each.consumer_id == whose(office, n))


def test_one_that_has_not_paid_is_held_up_until_it_has(office: Office, known: Outside) -> None:
    known.hear("customer.unpaid", about="HB-17")
    assert (held_up(office), standing(office), held_up(office, 1)) == ("HB-17", "unpaid", None)
    with office.ctx.transaction() as session:
        assert any(each.fields.get("number") == "HB-17" for each in session.query(Notice))
    reminding.look(office.ctx)  # nothing is owed here, and yet it stays
    assert held_up(office) == "HB-17"
    later(office, hours=1)
    known.hear("customer.paid")
    assert (held_up(office), standing(office)) == (None, "good")
    assert [(each.kind, each.done, each.outcome) for each in words(office)] == [
        ("customer.unpaid", True, "Calls of Ferries are held up until it is paid."),
        ("customer.paid", True, "Calls of Ferries go on."),
    ]


def test_one_that_owes_on_both_sides_goes_on_once_it_has_paid_both(office: Office) -> None:
    record(office, 30)
    office.clock.now = LATER
    invoice = issue(office)
    outside = Outside(office, since=LATER.date().replace(day=1))
    outside.map()
    later(office, days=50)  # past the day on which the house pauses
    reminding.look(office.ctx)
    assert held_up(office) == invoice.summary.number
    outside.hear("customer.unpaid", about="HB-17")
    assert held_up(office) == invoice.summary.number
    later(office, hours=1)
    outside.hear("customer.paid")
    assert words(office)[-1].outcome == "It is paid outside; calls of Ferries stay held up for what is not paid here."
    outside.hear("customer.unpaid", about="HB-18", at=office.clock.now + timedelta(seconds=1))
    pay(office, invoice.summary.total)
    reminding.look(office.ctx)
    assert held_up(office) is not None
    later(office, hours=1)
    outside.hear("customer.paid")
    assert held_up(office) is None


def test_one_that_is_known_otherwise_is_mapped_so(office: Office, known: Outside) -> None:
    record(office, 60)
    later(office, hours=3)
    known.there.all.customers["C-7"] = "Ferries plc"
    known.hear("customer.changed", to="C-7", name="Ferries plc")
    (ferries, _) = mapped.consumers(office.finance, PageQuery(sort="consumer")).rows
    assert (ferries.customer, ferries.name) == ("C-7", "Ferries plc")
    known.hand_on()
    assert {each.customer for each in known.there.all.events.values()} == {"C-7"}
    known.hear("customer.changed", "C-2", to="C-7")
    assert words(office)[-1].outcome == "C-7 is another consumer's already." and not words(office)[-1].done


def test_one_that_has_ended_has_its_subscriptions_ended(office: Office, known: Outside) -> None:
    known.hear("customer.ended")
    with office.ctx.transaction() as session:
        states = [session.get_one(Subscription, each.subscription).state for each in office.consumers]
    assert states == ["ended", "active"]
    assert words(office)[0].outcome == "Subscriptions billed outside: 1 ended." and standing(office) == "ended"
    later(office, hours=1)
    known.hear("customer.ended", word_id="again")
    assert words(office)[-1].outcome == "Subscriptions billed outside: none." and not words(office)[-1].done


def test_one_whose_plan_asks_for_notice_ends_when_that_is_over(office: Office, known: Outside) -> None:
    office.draft("Ketch", {**terms(), "notice_days": 30})
    office.publish("keep")
    third = office.admit("Skippers", "Ketch")
    office.consumers.append(third)
    known.there.all.customers["C-3"] = "Skippers"
    known.map(2)
    known.hear("customer.ended", "C-3")
    assert words(office)[0].outcome == "Subscriptions billed outside: 1 will end when their notice is over."
    with office.ctx.transaction() as session:
        subscription = session.get_one(Subscription, third.subscription)
        assert subscription.state == "active" and subscription.coming is not None
        assert subscription.coming.at > office.clock.now + timedelta(days=29)


def test_a_word_is_applied_once_however_often_and_at_once_it_comes(office: Office, known: Outside) -> None:
    at_once(office.ctx, lambda _: known.hear("customer.unpaid", word_id="word-1", about="HB-17"), 5)
    known.hear("customer.unpaid", word_id="word-1", about="HB-17")
    assert len(words(office)) == 1
    with office.ctx.transaction() as session:
        assert len(payment_pauses.of_consumer(session, [whose(office)])) == 1


def test_words_that_come_out_of_order_end_as_they_were_said(office: Office, known: Outside) -> None:
    now = office.clock.now
    known.hear("customer.paid", word_id="second", at=now)
    known.hear("customer.unpaid", word_id="first", at=now - timedelta(minutes=1), about="HB-17")
    assert held_up(office) is None and standing(office) == "good"
    assert words(office)[-1].outcome == "Older than what was said of Ferries before." and not words(office)[-1].done


def test_a_word_about_nobody_here_is_written_down(office: Office, known: Outside) -> None:
    known.hear("customer.unpaid", "C-77", about="HB-17")
    (word,) = words(office)
    assert (word.customer, word.consumer_id, word.done) == ("C-77", None, False)
    assert word.outcome == "No consumer is mapped to this customer."


def test_what_it_did_not_sign_or_what_means_nothing_is_refused(office: Office, known: Outside) -> None:
    def said(of: object, by: BillingThere) -> None:
        word = Event("word-1", "", json.dumps(of))
        hearing.take(office.ctx, known.asks, word.body.encode(), by.signed(word))

    good = {"type": "customer.paid", "timestamp": office.clock.now.isoformat(), "data": {"customer": "C-1"}}
    with pytest.raises(NotSignedIn):
        said(good, BillingThere("what somebody else signs with", clock=office.clock))
    with pytest.raises(NotSignedIn, match="too long ago"):
        said(good, BillingThere(known.there.secret, clock=lambda: datetime(2026, 1, 1, tzinfo=UTC)))
    for change, field in (
        ({"type": "customer.happy"}, "type"),
        ({"timestamp": "2026-09-10T12:00:00"}, "timestamp"),
        ({"timestamp": "soon"}, "timestamp"),
        ({"data": {}}, "customer"),
        ({"data": {"customer": "C-1", "much": 1}}, "much"),
        ({"data": {"customer": "C\u0007"}}, "customer"),
    ):
        with pytest.raises(Invalid) as refused:
            said({**good, **change}, known.there)
        assert field in f"{refused.value}"
    assert words(office) == []
    said(good, known.there)
    assert len(words(office)) == 1 and SEPTEMBER.month == 9
