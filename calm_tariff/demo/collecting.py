"""How the consumers of the demo pay: most in time, one late, one never, one in round sums, one with its bank's fee
taken off, one whose payment goes back, one without the reference."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta
from decimal import ROUND_CEILING, Decimal
from functools import partial
from typing import Any

from sqlalchemy import select

from calm_tariff.core.billing.accounts import collecting, reminders
from calm_tariff.core.billing.accounts.payments import Money
from calm_tariff.core.billing.accounts.reminders import Policy
from calm_tariff.core.billing.bank.references import creditor_reference
from calm_tariff.core.billing.bank.statements import BankLine
from calm_tariff.core.periods import instant_of, local_day, zone
from calm_tariff.demo import cards
from calm_tariff.demo.scenario import PROVIDER
from calm_tariff.formats.camt_out import statement
from calm_tariff.services.base.context import Actor, Context, provider_of
from calm_tariff.services.base.processor import Processor
from calm_tariff.services.house import settings
from calm_tariff.services.settle.accounts import payments, reminding, writing_off
from calm_tariff.services.settle.bank import statements
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.house.people import Person
from calm_tariff.store.settle.money_documents import Invoice

WHERE = zone(PROVIDER.time_zone)
LATE, NEVER, ROUND, FEE, BACK, VAGUE = (
    "Cormorant Charters",
    "Thornhithe Harbour",
    "Pontoon Parcel",
    "Seaholm Radio",
    "Tern & Teal Mutual",
    "Quayside Freight",
)
# So many days after an invoice whoever is late pays it: it is overdue for most of the month.
LATE_DAYS = 42
ROUND_TO, BANKS_FEE = Decimal(50), Decimal("0.40")
NO_COVER = "The bank took it back: there was no cover."
GONE = "Nobody answers there any more, and letters come back."
TOO_LITTLE = "Their bank took its fee off the transfer."


@dataclass(frozen=True, slots=True, kw_only=True)
class Owing:
    """An issued invoice, as whoever pays it knows it."""

    id: int
    number: str
    consumer_id: int
    consumer: str
    issued_on: date
    due_on: date
    period_start: date
    amount: Decimal
    by_card: bool


class Collecting:
    """What came in, day by day, as the months are charged beside it."""

    def __init__(self, ctx: Context, processor: Processor | None, first: date, last: date) -> None:
        with ctx.transaction() as session:
            person = session.scalars(select(Person).where(Person.name == "Beatriz")).one()
        self._beatriz = ctx.acting(Actor(person.name, frozenset({"finance"}), person_id=person.id))
        self._processor, self._day, self._last, self._went_back = processor, first, last, False

    def until(self, moment: datetime) -> None:
        """Have everything paid, reminded of and held up that was until an instant."""
        owing = _open(self._beatriz)
        while self._day <= local_day(instant_of(moment), WHERE):
            eight = datetime.combine(self._day, time(8), WHERE).astimezone(UTC)
            beatriz = replace(self._beatriz, clock=partial(min, eight, moment))
            if any(_follows(each, self._day) for each in owing):
                reminding.look(beatriz)
            for each in owing:
                if (
                    each.by_card
                    and self._processor
                    and self._day in collecting.planned(each.due_on, collecting.TRIES_AFTER_DAYS)
                ):
                    cards.collect(beatriz, self._processor, each.consumer_id)
                    owing = _open(beatriz)
            for each in owing:
                if self._day >= each.issued_on + timedelta(days=_days(each)) and self._pays(each):
                    self._paid(beatriz, each)
                    owing = _open(beatriz)
            self._day += timedelta(days=1)

    def _pays(self, of: Owing) -> bool:
        """Whether an invoice is paid as it should be; of the last month one waits for the bank's statement."""
        return not of.by_card and of.consumer != NEVER and not (of.consumer == VAGUE and of.period_start == self._last)

    def bring_statement_in(self, now: datetime) -> None:
        """Have the bank tell of a transfer without a reference, and of its fees."""
        day = local_day(instant_of(now), WHERE)
        vague = [each for each in _open(self._beatriz) if each.consumer == VAGUE]
        lines = [_line(day, "1", Decimal("-4.90"), "Coast Savings Bank", "Fees of the month")]
        if vague:
            lines.append(_line(day, "2", vague[0].amount, "QUAYSIDE FREIGHT LDA", "berths and tides, thank you"))
        text = statement(PROVIDER.iban, lines, day)
        statements.bring_in(self._beatriz, f"statement-{day}.xml", text, "camt.053")

    def _paid(self, ctx: Context, of: Owing) -> None:
        entry = _pay(ctx, of, self._day)
        if of.consumer == BACK and not self._went_back:
            self._went_back = True
            payments.went_back(ctx, entry, NO_COVER)

    def give_up(self) -> None:
        """Have what was never paid first wait to be given up, which takes a second person."""
        oldest = next((each for each in _open(self._beatriz) if each.consumer == NEVER), None)
        if oldest is not None:
            writing_off.ask(self._beatriz, oldest.id, GONE)


def be_stricter(ctx: Context, **policy: Any) -> None:
    """Have another policy for what is not paid, by the word of who owns the house."""
    ines = ctx.acting(Actor("Ines", frozenset({"owner"})))
    edition = settings.everything(ines).edition
    with ctx.transaction() as session:
        kept = settings.of(provider_of(session))
    settings.change(ines, replace(kept, **policy), edition)
    reminding.look(ctx)


def _line(day: date, reference: str, amount: Decimal, name: str, text: str) -> BankLine:
    return BankLine(
        reference=f"{day:%Y%m%d}-{reference}",
        booked_on=day,
        value_on=day,
        amount=amount,
        currency=PROVIDER.currency,
        name=name,
        text=text,
    )


def _follows(of: Owing, day: date) -> bool:
    """Whether something follows on a day where an invoice is not paid."""
    before, policy = day - timedelta(days=1), Policy()
    reminded = reminders.to_remind(of.due_on, (), policy, day) != reminders.to_remind(of.due_on, (), policy, before)
    paused = reminders.to_pause(of.due_on, policy, day) != reminders.to_pause(of.due_on, policy, before)
    return before == of.due_on or reminded or paused


def _days(of: Owing) -> int:
    """How many days after an invoice it is paid."""
    return LATE_DAYS if of.consumer == LATE else 4 + of.consumer_id * 5 % 10


def _pay(ctx: Context, of: Owing, day: date) -> int:
    amount = of.amount
    if of.consumer == ROUND:
        amount = (amount / ROUND_TO).to_integral_value(ROUND_CEILING) * ROUND_TO
    short = of.consumer == FEE and amount > BANKS_FEE
    if short:
        amount -= BANKS_FEE
    money = Money(amount=amount, value_on=day, reference=creditor_reference(of.number))
    entry = payments.receive(ctx, of.consumer_id, money, of.id).id
    if short:
        writing_off.ask(ctx, of.id, TOO_LITTLE)
    return entry


def _open(ctx: Context) -> list[Owing]:
    """The invoices of which something is open, the earliest first."""
    query = (
        select(Invoice, Consumer.name)
        .join(Consumer, Consumer.id == Invoice.consumer_id)
        .where(Invoice.open_amount > 0)
        .order_by(Invoice.id)
    )
    with ctx.transaction() as session:
        return [
            Owing(
                id=invoice.id,
                number=invoice.number or "",
                consumer_id=invoice.consumer_id,
                consumer=name,
                issued_on=local_day(instant_of(invoice.issued_at), WHERE),
                due_on=invoice.due_on,
                period_start=invoice.period_start,
                amount=invoice.open_amount,
                by_card=invoice.payment_method == "card",
            )
            for invoice, name in session.execute(query)
            if invoice.issued_at is not None and invoice.due_on is not None
        ]
