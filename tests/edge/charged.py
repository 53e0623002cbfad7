"""A consumer that was charged for two months, with everything that can become of a charge."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.billing.documents.adjustments import Wanted as Adjusting
from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.ids import call_id
from calm_tariff.core.periods import instant_of
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.services.serve import history
from calm_tariff.services.settle import striking
from calm_tariff.services.settle.accounts import payments, writing_off
from calm_tariff.services.settle.bank import entries as bank_entries
from calm_tariff.services.settle.bank import statements
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.cards import planning
from calm_tariff.services.settle.documents import adjustments, credit_notes, files, invoices, issuing
from calm_tariff.services.settle.documents.credit_notes import Wanted as Crediting
from calm_tariff.services.settle.exports import bundles
from calm_tariff.services.settle.journal import chart
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.services.settle.striking import Wanted
from calm_tariff.store.admit.cards import PaymentCard
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.settle.books import BookDifference
from calm_tariff.store.settle.handoff import (
    HandedBatch,
    HandedUnits,
    OutsideCustomer,
    OutsideProduct,
    OutsideWord,
    PlanPrice,
)
from tests.formats.camt_files import Sent, camt
from tests.office import START, Office
from tests.services.serve.elsewhere.sent import row, take


def give_card(office: Office, n: int = 0) -> int:
    """A consumer pays by a card from now on; its id."""
    with office.ctx.transaction() as session:
        consumer = session.get_one(Consumer, office.consumers[n].member.own_consumer)
        consumer.payment_method = "card"
        card = PaymentCard(
            consumer_id=consumer.id,
            token="card-1",
            brand="Sandbank Card",
            last_four="1002",
            ends_on=date(2030, 1, 1),
            added_by="Ferries owner",
            added_at=office.ctx.now,
        )
        session.add(card)
        session.flush()
        return card.id


def bundle(ctx: Context, start: date) -> int:
    """An archive of what was issued for a month, which is done."""
    begun = bundles.begin(ctx, start)
    bundles.make(ctx, begun.id)
    return begun.id


def audit(ctx: Context) -> int:
    """The books are just looked through; the time before, something differed."""
    before = audits.begin(ctx)
    audits.go_on(ctx, before)
    with ctx.transaction() as session:
        session.add(BookDifference(audit_id=before, check="units", what="units", sums=[["hours", "1"]], came_of=[]))
    return audits.begin(ctx)


def charged(office: Office) -> dict[str, int]:
    """The ids of what there is then, by the parameters of routes: September's invoice (`of_id`) is adjusted, issued and
    credited in part, October's (`invoice_id`) has a late line for it, a payment, and waits to be written off; of
    another consumer September is a draft."""
    ferries = office.consumers[0]
    september, october = date(2026, 9, 1), date(2026, 10, 1)
    in_october, in_november = (
        replace(office.finance, clock=lambda month=month: datetime(2026, month, 2, tzinfo=UTC)) for month in (10, 11)
    )
    with office.ctx.transaction() as session:
        provider, consumer = provider_of(session), session.get_one(Consumer, ferries.member.own_consumer)
        provider.country, provider.tax_number, consumer.country = "PT", "PT599999993", "PT"
    run = charging.run(in_october, september)
    charges = periods.charges(in_october, september, PageQuery()).rows
    first = next(c.invoice_id for c in charges if c.consumer == "Ferries" and c.invoice_id)
    less = Adjusting(words="A week without data", amount=Decimal(-1), treatment="standard", reason="Ticket 17")
    adjustments.add(in_october, first, less)
    (adjustment,) = invoices.one(in_october, first).adjustments
    issuing.issue(in_october, [first])
    lines = {x.kind: x.id for x in invoices.one(in_october, first).lines}
    taken = Crediting(reason="A quay was closed.", lines=(Taken(line=lines["fee"], amount=Decimal(1)),))
    note = credit_notes.issue(in_october, first, taken)
    history.take_in(office.ctx, [office.call(ferries, START + timedelta(minutes=n), 100 + n) for n in range(10)])
    charging.run(in_november, october)
    charges = periods.charges(in_november, october, PageQuery()).rows
    second = next(c.invoice_id for c in charges if c.consumer == "Ferries" and c.invoice_id)
    issuing.issue(in_november, [second])
    money = Money(amount=Decimal(1), value_on=date(2026, 11, 2))
    with office.ctx.transaction() as session:
        provider_of(session).write_off_limit = Decimal(0)
    owner = ferries.member.own_consumer
    struck = Wanted(filter=CallFilter(consumer_id=owner), source="test", ids=(call_id(instant_of(START), 100),))
    strike = striking.strike_out(in_november, struck, "Ours.", 1)
    told = camt(Sent("B1", "7.00", "thanks"), Sent("B2", "-2.00", "fees"))
    statements.bring_in(in_november, "today.xml", told, "camt.053")
    with office.ctx.transaction() as session:
        bank_entry, fees = session.scalars(select(BankEntry.id).order_by(BankEntry.id)).all()
    bank_entries.leave_alone(in_november, fees, "Ours.")
    for document in (second, note.id):
        files.write(in_november, document)
    give_card(office)
    planning.try_now(in_november, second)
    return {
        "bank_entry_id": bank_entry,
        "usage_file_id": take(office, [row(office, 1), row(office, 2, status="?")]).id,
        "entry_id": payments.receive(in_november, ferries.member.own_consumer, money).id,
        "write_off_id": writing_off.ask(in_november, second, "They are gone.").id,
        "invoice_id": second,
        "of_id": first,
        "line_id": lines["usage"],
        "adjustment_id": adjustment.id,
        "credit_note_id": note.id,
        "run_id": run.id,
        "strike_id": strike.id,
        "bundle_id": bundle(in_november, october),
        "audit_id": audit(in_november),
        "ledger_id": chart.listed(in_november)[0].id,
        **handed_on(office, in_november),
    }


def handed_on(office: Office, ctx: Context) -> dict[str, int]:
    """What was handed on of one hour of somebody's, and what the outside said of another."""
    ferries, kayaks = office.consumers[:2]
    with ctx.transaction() as session:
        batch = HandedBatch(
            key="usage-1", made_at=ctx.now, answered_at=ctx.now, events=1, units=1, digest="", refused=1
        )
        owner = kayaks.member.own_consumer
        session.add_all(
            [
                OutsideProduct(product_id=office.product, since=date(2026, 9, 1), made_by="Beatriz", made_at=ctx.now),
                OutsideCustomer(consumer_id=owner, customer="C-2"),
                PlanPrice(plan_id=office.plans["Ketch"], price="P-1"),
                batch,
                OutsideWord(
                    word_id="word-1",
                    kind="customer.paid",
                    customer="C-2",
                    at=ctx.now,
                    heard_at=ctx.now,
                    consumer_id=owner,
                    done=True,
                    outcome="Kayaks is well again.",
                ),
            ]
        )
        session.flush()
        handed = HandedUnits(
            hour_us=instant_of(START),
            subscription_id=ferries.subscription,
            meter_id=office.meter,
            revision=1,
            units=Decimal(1),
            plan_id=office.plans["Ketch"],
            trial=False,
            state="refused",
            made_at=ctx.now,
            batch_id=batch.id,
            refused_why="there is no customer C-1",
        )
        session.add(handed)
        session.flush()
        return {"batch_id": batch.id, "handed_id": handed.id}
