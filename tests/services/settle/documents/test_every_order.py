"""Whatever arrives, is struck out, charged, credited and issued in whatever order: in the end everything is charged
once, as somebody would work it out by hand who knows none of it but the tables."""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from decimal import ROUND_HALF_UP, Decimal

import pytest
from sqlalchemy import text

from calm_tariff.services.settle.documents import credit_notes, invoices, issuing
from calm_tariff.services.settle.periods import charging
from tests.office import Office, terms
from tests.services.settle.documents.recorded import arrive, invoice_of, lose

MONTHS = [date(2026, 9, 1), date(2026, 10, 1), date(2026, 11, 1), date(2026, 12, 1), date(2027, 1, 1)]
# The Ketch's prices by hand: 21 of September's 30 days, the rest whole.
FEES = {MONTHS[0]: Decimal("28.00")}
INCLUDED = {MONTHS[0]: 7}


# Within these bounds, in the stories in which it has them; of September by the day, too.
MINIMUM, CAP = Decimal("40.60"), Decimal("41.20")
BOUNDS = {MONTHS[0]: (Decimal("28.42"), Decimal("28.84"))}


def by_hand(month: date, units: int, bounded: bool) -> Decimal:
    """What a month of so many units comes to before tax."""
    priced = max(units - INCLUDED.get(month, 10), 0)
    usage = min(priced, 20) * Decimal("0.004") + max(priced - 20, 0) * Decimal("0.003")
    found = FEES.get(month, Decimal("40.00")) + usage.quantize(Decimal("0.01"), ROUND_HALF_UP)
    least, most = BOUNDS.get(month, (MINIMUM, CAP))
    return min(max(found, least), most) if bounded else found


@dataclass
class Story:
    """An office in which months pass, at random."""

    office: Office
    chance: random.Random
    whose: int = 0
    units: dict[date, int] = field(default_factory=lambda: dict.fromkeys(MONTHS, 0))
    calls: int = 0
    issued: int = 0

    @property
    def name(self) -> str:
        return self.office.consumers[self.whose].member.consumer

    def arrives(self) -> None:
        month, many = self.chance.choice(MONTHS[: self.issued + 1]), self.chance.choice([1, 9, 60, 240])
        first = max(datetime(month.year, month.month, 11, 8, tzinfo=UTC), datetime(2026, 9, 11, 8, tzinfo=UTC))
        arrive(
            self.office,
            many,
            self.calls,
            since=first + timedelta(minutes=self.chance.randrange(6000)),
            whose=self.whose,
        )
        self.calls += many
        self.units[month] += many

    def struck_out(self) -> None:
        month = self.chance.choice(MONTHS[: self.issued + 1])
        many = self.chance.randrange(self.units[month] + 1)
        lose(self.office, many, month, self.whose)
        self.units[month] -= many

    def credited(self) -> None:
        if issued := self.invoices():
            self.credit(self.chance.choice(issued))

    def credit(self, invoice: int) -> None:
        """What is proposed for an invoice, if something is."""
        if invoices.one(self.office.finance, invoice).proposed:
            credit_notes.issue_proposed(self.office.finance, invoice, "Struck out.")

    def invoices(self) -> list[int]:
        with self.office.ctx.transaction() as session:
            whose = {"consumer": self.office.consumers[self.whose].member.own_consumer}
            return [i for (i,) in session.execute(text(INVOICES), whose)]

    def drafted(self) -> None:
        if self.issued < len(MONTHS):
            charging.run(self.office.finance, MONTHS[self.issued])

    def charged(self) -> None:
        if self.issued == len(MONTHS):
            return
        month = MONTHS[self.issued]
        after = MONTHS[self.issued + 1] if self.issued + 1 < len(MONTHS) else date(2027, 2, 1)
        self.office.clock.now = datetime(after.year, after.month, 3, 9, tzinfo=UTC)
        self.drafted()
        if self.chance.random() < 0.5:
            self.arrives()  # between the draft and its issue
        issuing.issue(self.office.finance, [invoice_of(self.office, month, self.name).summary.id])
        self.issued += 1


INVOICES = """
SELECT id FROM money_document WHERE kind = 'invoice' AND state <> 'draft' AND consumer_id = :consumer ORDER BY id
"""
CHARGED = """
SELECT l.belongs_to, sum(if(d.kind = 'credit note', -l.amount, l.amount))
FROM money_line AS l JOIN money_document AS d ON d.id = l.document_id
WHERE d.state <> 'draft' AND d.consumer_id = :consumer GROUP BY l.belongs_to
"""
BEYOND = """
SELECT o.id FROM money_line AS o JOIN money_line AS c ON c.origin_id = o.id AND c.sort = 'credit'
GROUP BY o.id, o.amount HAVING abs(sum(c.amount)) > abs(o.amount) OR sum(c.amount) * o.amount < 0
"""
SUMS = """
SELECT d.id FROM money_document AS d LEFT JOIN money_line AS l ON l.document_id = d.id GROUP BY d.id, d.subtotal,
d.tax, d.total HAVING coalesce(sum(l.amount), 0) <> d.subtotal OR d.subtotal + d.tax <> d.total
"""
TAXED = """
SELECT d.id FROM money_document AS d JOIN document_tax AS t ON t.document_id = d.id
GROUP BY d.id, d.subtotal, d.tax HAVING sum(t.base) <> d.subtotal OR sum(t.tax) <> d.tax
"""


# With 8, 16, 25 and 34 a minimum takes more than one of several credit notes gives back.
@pytest.mark.parametrize(
    ("seed", "bounded"), [*((n, False) for n in range(6)), *((n, True) for n in (0, 1, 8, 16, 25, 34))]
)
def test_in_whatever_order_everything_is_charged_once(office: Office, seed: int, bounded: bool) -> None:
    if bounded:
        priced = terms()
        priced["pricing"] |= {"minimum": str(MINIMUM), "cap": str(CAP)}
        office.draft("Ketch", priced)
        office.publish("keep")
        office.consumers.append(office.admit("Terns", "Ketch"))
    story = Story(office, random.Random(seed), whose=-1 if bounded else 0)
    steps = [story.arrives, story.arrives, story.struck_out, story.credited, story.drafted, story.charged]
    while story.issued < len(MONTHS) - 1:
        story.chance.choice(steps)()
    # What is still late stands on the last invoice, what is still too much on credit notes.
    story.charged()
    for invoice in story.invoices():
        story.credit(invoice)
    office.clock.now = datetime(2027, 3, 3, 9, tzinfo=UTC)
    charging.run(office.finance, date(2027, 2, 1))
    issuing.issue(office.finance, [invoice_of(office, date(2027, 2, 1), story.name).summary.id])
    with office.ctx.transaction() as session:
        whose = {"consumer": office.consumers[story.whose].member.own_consumer}
        charged = dict(session.execute(text(CHARGED), whose).all())
        for broken in (BEYOND, SUMS, TAXED):
            assert session.execute(text(broken)).all() == []
        numbers = [n for (n,) in session.execute(text("SELECT number FROM money_document WHERE number IS NOT NULL"))]
        sorts = {sort for (sort,) in session.execute(text("SELECT DISTINCT sort FROM money_line"))}
    assert {month: charged[month] for month in MONTHS} == {
        m: by_hand(m, units, bounded) for m, units in story.units.items()
    }
    assert {"own", "late"} <= sorts
    for series in ("INV", "CN"):
        given = sorted(n for n in numbers if n.startswith(series))
        for year in {n.split("-")[1] for n in given}:
            of_year = [n for n in given if n.split("-")[1] == year]
            assert of_year == [f"{series}-{year}-{n:05d}" for n in range(1, len(of_year) + 1)]
