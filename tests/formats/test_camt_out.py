"""What is written as a statement is read as what it was."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core.billing.bank.statements import BankLine, Statement
from calm_tariff.formats import camt
from calm_tariff.formats.camt_out import statement

IBAN = "PT50000201231234567890154"
DAY = date(2026, 10, 5)
# Words as banks let them through: without space at the ends or twice, and nothing that XML cannot hold.
WORDS = st.text(st.characters(codec="utf-8", exclude_categories=("C", "Z")) | st.just(" "), max_size=60).map(
    lambda text: " ".join(text.split())
)
LINES = st.builds(
    BankLine,
    reference=st.uuids().map(str),
    booked_on=st.dates(date(2020, 1, 1), date(2030, 1, 1)),
    value_on=st.dates(date(2020, 1, 1), date(2030, 1, 1)),
    amount=st.decimals("-99999.99", "99999.99", places=2).filter(bool),
    currency=st.sampled_from(["EUR", "USD"]),
    name=WORDS,
    iban=st.sampled_from(["", "DE89370400440532013000"]),
    text=WORDS,
    creditor_reference=st.sampled_from(["", "RF32INV202600017"]),
)


@given(st.lists(LINES, max_size=6))
def test_a_statement_is_read_as_it_was_written(lines: list[BankLine]) -> None:
    assert camt.read(statement(IBAN, lines, DAY)) == Statement(iban=IBAN, lines=tuple(lines))


def test_words_that_look_like_markup_stay_words() -> None:
    line = BankLine(
        reference="<b>&amp;",
        booked_on=DAY,
        value_on=DAY,
        amount=Decimal("1.00"),
        currency="EUR",
        text="</Ustrd><Amt>9</Amt> ]]> <!-- &lt;",
    )
    (read,) = camt.read(statement(IBAN, [line], DAY)).lines
    assert (read.reference, read.text, read.amount) == (line.reference, line.text, line.amount)
