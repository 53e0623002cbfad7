"""Invoices are tried on their days, and money is taken once, whatever dies when."""

from __future__ import annotations

from dataclasses import replace
from datetime import date
from decimal import Decimal

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Away, Conflict, NotAllowed, NotFound
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.base.processor import Answer
from calm_tariff.services.observe import merging
from calm_tariff.services.settle.accounts import reminding
from calm_tariff.services.settle.cards import planning, showing, trying
from calm_tariff.services.settle.documents import invoices
from calm_tariff.services.settle.documents.invoices import InvoiceView
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.settle.accounts import AccountEntry
from calm_tariff.store.settle.card_attempts import PaymentAttempt
from tests.office import Office
from tests.services.months import LATER, at_once
from tests.services.queries import asked, meanwhile
from tests.services.settle.accounts.owing import account, again, agrees, at, entries, pay, whose
from tests.services.settle.cards.processors import Simulated, attempts, told
from tests.services.settle.documents.recorded import issue


def test_an_invoice_is_taken_from_the_card_on_the_day_it_is_due(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    assert (invoice.card, invoice.next_try) == ("Sandbank Card ending in 1002", date(2026, 10, 17))
    at(office, 2026, 10, 16)
    assert simulated.work() == []
    at(office, 2026, 10, 17)
    assert len(simulated.work()) == 1
    assert simulated.charges == [("34.44", "done")]
    paid = again(office, invoice)
    assert (paid.summary.state, paid.next_try, attempts(office, invoice)) == ("paid", None, [("taken", "")])
    entry = entries(office)[-1]
    assert (entry.kind, entry.paid_by, entry.names, entry.made_by) == (
        "payment",
        "card",
        "INV-2026-00001",
        "Calm Tariff",
    )
    assert entry.reference.startswith("Sandbank Card ending in 1002, charge-")
    (receipt,) = told(office, "payment received")
    assert "34.44 EUR came in on 17 October 2026" in receipt and "INV-2026-00001: 34.44" in receipt
    agrees(office, whose(office))
    assert simulated.work() == [] and len(simulated.charges) == 1


def test_an_invoice_that_a_card_pays_while_it_is_looked_at_is_shown_open_or_paid(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    def look() -> InvoiceView:
        return invoices.own_one(office.ctx.acting(office.consumers[0].member), invoice.summary.id)

    at(office, 2026, 10, 17)
    with asked(office.ctx) as sent:
        look()
    place = next(n for n, words in enumerate(sent) if "FROM payment_attempt" in words)
    with meanwhile(office.ctx, place, simulated.work):
        between = look()
    assert (between.summary.state, between.attempts) == ("issued", [])
    paid = look()
    assert (paid.summary.state, [each.state for each in paid.attempts]) == ("paid", ["taken"])


def test_a_card_without_cover_is_tried_four_times_and_its_consumer_told_each_time(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("no cover")
    tried = []
    for day in range(17, 31):
        at(office, 2026, 10, day)
        tried += [day for _ in simulated.work()]
    assert tried == [17, 18, 20, 24]
    assert attempts(office, invoice) == [("failed", "there is no cover for it")] * 4
    words = told(office, "payment failed")
    assert ["tried again on 18 October" in words[0], "again on 20 October" in words[1]] == [True, True]
    assert "again on 24 October" in words[2] and "not tried again by itself" in words[3]
    assert again(office, invoice).next_try is None
    assert told(office, "payment received") == [] and account(office).open == Decimal("34.44")


def test_a_card_that_has_cover_at_the_third_try_pays(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("no cover twice")
    for day in (17, 18, 19, 20, 24):
        at(office, 2026, 10, day)
        simulated.work()
    assert [state for state, _ in attempts(office, invoice)] == ["failed", "failed", "taken"]
    assert again(office, invoice).summary.state == "paid"
    agrees(office, whose(office))


def test_another_card_is_what_the_next_try_asks_for(office: Office, simulated: Simulated, invoice: InvoiceView) -> None:
    simulated.give("blocked")
    at(office, 2026, 10, 17)
    simulated.work()
    simulated.give("pays")
    at(office, 2026, 10, 18)
    simulated.work()
    assert attempts(office, invoice) == [("failed", "it is blocked"), ("taken", "")]


def test_a_worker_that_was_away_makes_up_for_no_try_but_the_last(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("no cover")
    at(office, 2026, 10, 22)
    assert len(simulated.work()) == 1 and simulated.work() == []
    at(office, 2026, 10, 24)
    assert len(simulated.work()) == 1
    at(office, 2026, 12, 1)
    assert simulated.work() == []


def test_many_workers_plan_one_try(office: Office, simulated: Simulated, invoice: InvoiceView) -> None:
    at(office, 2026, 10, 17)
    assert sum(at_once(office.ctx, lambda _: planning.look(office.ctx), 4)) == 1
    with office.ctx.transaction() as session:
        (attempt,) = session.scalars(select(PaymentAttempt.id))
        (job,) = session.scalars(select(Job).where(Job.kind == planning.TRY))
    assert (job.arguments, job.about) == ({"attempt": attempt}, "INV-2026-00001")


def test_many_workers_that_make_one_attempt_take_its_money_once(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    planning.look(office.ctx)
    with office.ctx.transaction() as session:
        attempt = session.scalars(select(PaymentAttempt.id)).one()
    done = Answer(state="done", reference="charge-1")
    trying.make(office.ctx, simulated.asks, attempt)
    at_once(office.ctx, lambda _: trying.answered(office.ctx, attempt, done), 4)
    simulated.tell(*simulated.events("charge.taken"))
    assert [e.kind for e in entries(office)] == ["invoice", "payment"]
    assert len(told(office, "payment received")) == 1


def test_an_answer_that_is_lost_is_asked_for_again_and_takes_no_money_twice(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    simulated.be(loses=True)
    with pytest.raises(Away, match="answered 504"):
        simulated.work()
    assert attempts(office, invoice) == [("tried", "")] and len(simulated.charges) == 1
    # What is asked for is the same, whatever was paid meanwhile: the money may have been taken already.
    pay(office, "4.44")
    simulated.be()
    simulated.work()
    assert simulated.charges == [("34.44", "done")]
    assert (account(office).credit, again(office, invoice).summary.state) == (Decimal("4.44"), "paid")
    agrees(office, whose(office))


def test_a_webhook_that_is_faster_than_the_answer_books_what_was_taken(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    simulated.be(loses=True, twice=True)
    with pytest.raises(Away):
        simulated.work()
    events = simulated.events("charge.taken")
    assert len(events) == 2
    simulated.tell(*events, *events)
    assert attempts(office, invoice) == [("taken", "")]
    assert simulated.work() == [] and len(told(office, "payment received")) == 1


def test_a_processor_that_is_away_is_asked_until_it_answers(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    simulated.be(away=True)
    for day in (17, 18, 24):
        at(office, 2026, 10, day)
        with pytest.raises(Away, match="503"):
            simulated.work()
    assert attempts(office, invoice) == [("tried", "")]
    simulated.be()
    simulated.work()
    assert attempts(office, invoice) == [("taken", "")] and len(simulated.charges) == 1


def test_what_is_under_way_is_asked_about_less_and_less_often(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("slow")
    at(office, 2026, 10, 17)
    (attempt,) = simulated.work()
    office.clock.forward(minutes=10)
    then = trying.make(office.ctx, simulated.asks, attempt)
    assert then is not None and (then - office.ctx.now).total_seconds() == 60
    office.clock.forward(days=2)
    then = trying.make(office.ctx, simulated.asks, attempt)
    assert then is not None and (then - office.ctx.now).total_seconds() == 3600
    (charge,) = simulated.processing.all.charges.values()
    simulated.processing.settle(charge)
    assert trying.make(office.ctx, simulated.asks, attempt) is None
    assert attempts(office, invoice) == [("taken", "")]


def test_what_is_paid_before_it_is_asked_for_is_called_off(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    planning.look(office.ctx)
    pay(office, "34.44")
    simulated.work()
    assert attempts(office, invoice) == [("called off", "")] and simulated.charges == []


def test_what_is_open_when_it_is_asked_for_is_asked_for(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    planning.look(office.ctx)
    pay(office, "4.44")
    simulated.work()
    assert simulated.charges == [("30.00", "done")] and account(office).balance == 0


def test_an_answer_that_comes_late_changes_nothing_that_is_over(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("blocked")
    at(office, 2026, 10, 17)
    (attempt,) = simulated.work()
    assert trying.answered(office.ctx, attempt, Answer(state="done")) is None
    assert attempts(office, invoice) == [("failed", "it is blocked")] and account(office).open == Decimal("34.44")


def test_who_pays_by_transfer_is_not_tried_but_can_pay_by_card(office: Office, simulated: Simulated) -> None:
    office.clock.now = LATER
    invoice = issue(office)
    simulated.give("pays")
    at(office, 2026, 10, 17)
    assert simulated.work() == [] and again(office, invoice).next_try is None
    own = office.acting(office.consumers[0])
    planned = planning.pay_own(own, invoice.summary.id, "once")
    assert planning.pay_own(own, invoice.summary.id, "once") == planned
    with pytest.raises(Conflict, match="already"):
        planning.pay_own(own, invoice.summary.id)
    assert simulated.work() == [planned.id]
    assert again(office, invoice).attempts[0].planned_by == "Ferries owner"
    with pytest.raises(Conflict, match="nothing is open"):
        planning.try_now(office.finance, invoice.summary.id)


def test_a_try_by_hand_is_the_try_of_its_day(office: Office, simulated: Simulated, invoice: InvoiceView) -> None:
    simulated.give("no cover")
    at(office, 2026, 10, 17)
    planning.try_now(office.finance, invoice.summary.id)
    assert len(simulated.work()) == 1 and simulated.work() == []


def test_nobody_tries_anothers_invoice_or_without_a_card(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    kayaks = office.acting(office.consumers[1])
    with pytest.raises(NotFound):
        planning.pay_own(kayaks, invoice.summary.id)
    with pytest.raises(NotFound):
        planning.try_now(office.finance, 10**6)
    developer = replace(office.consumers[0].member, membership="developer")
    for ctx, does in ((office.ctx.acting(developer), planning.pay_own), (office.reviewer, planning.try_now)):
        with pytest.raises(NotAllowed):
            does(ctx, invoice.summary.id)
    other = issue(office, consumer="Kayaks")
    with pytest.raises(Conflict, match="Kayaks has given none"):
        planning.pay_own(kayaks, other.summary.id)


def test_calls_that_were_held_up_go_on_with_the_card_that_pays(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("no cover")
    at(office, 2026, 11, 7)
    reminding.look(office.ctx)
    assert len(account(office).pauses) == 1 and account(office).pauses[0].end_at is None
    simulated.give("pays")
    planning.pay_own(office.acting(office.consumers[0]), invoice.summary.id)
    simulated.work()
    assert account(office).pauses[0].end_at == office.ctx.now


def test_whoever_goes_on_for_a_merged_consumer_pays_by_its_own_card(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    merging.merge(office.manager, whose(office), whose(office, 1), "Ferries")
    at(office, 2026, 10, 17)
    assert simulated.work() == []
    simulated.give("pays", 1)
    assert len(simulated.work()) == 1
    assert account(office, 1).balance == 0


def test_a_house_without_tries_tries_nothing_by_itself(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    with office.ctx.transaction() as session:
        provider_of(session).tries_after_days = []
    at(office, 2026, 10, 17)
    assert simulated.work() == [] and again(office, invoice).next_try is None


def test_all_attempts_are_listed_with_what_became_of_them(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    simulated.give("blocked")
    at(office, 2026, 10, 17)
    simulated.work()
    simulated.give("pays")
    at(office, 2026, 10, 18)
    simulated.work()

    def listed(**of: str) -> list[str]:
        return [a.state for a in showing.listed(office.finance, PageQuery(**of)).rows]  # type: ignore[arg-type]

    assert (listed(), listed(words="failed")) == (["taken", "failed"], ["failed"])
    assert listed(sort="oldest") == ["failed", "taken"]
    assert (listed(words="ferries"), listed(words="kayaks")) == (["taken", "failed"], [])
    with asked(office.ctx) as few:
        listed()
    with office.ctx.transaction() as session:
        first = session.scalars(select(PaymentAttempt).order_by(PaymentAttempt.id)).first()
        assert first is not None
        for n in range(8):
            session.add(
                PaymentAttempt(
                    invoice_id=first.invoice_id,
                    card_id=first.card_id,
                    key=f"more-{n}",
                    amount=Decimal(1),
                    state="failed",
                    failure="refused",
                    planned_by="",
                    planned_at=office.ctx.now,
                )
            )
    with asked(office.ctx) as many:
        assert len(listed()) == 10
    assert len(many) == len(few)


def test_an_entry_is_booked_for_each_attempt_that_took_money(
    office: Office, simulated: Simulated, invoice: InvoiceView
) -> None:
    at(office, 2026, 10, 17)
    simulated.work()
    with office.ctx.transaction() as session:
        taken = session.scalars(select(PaymentAttempt.entry_id).where(PaymentAttempt.state == "taken")).all()
        by_card = select(func.count(AccountEntry.id)).where(AccountEntry.paid_by == "card")
        assert session.scalar(by_card) == len([each for each in taken if each is not None]) == 1
