"""Which invoice a transfer pays."""

from __future__ import annotations

from datetime import date
from decimal import Decimal

import pytest

from calm_tariff.core.billing.bank.matching import Payable, named, suggested, sure
from calm_tariff.core.billing.bank.statements import BankLine

DAY = date(2026, 10, 5)
FIRST = Payable(number="INV-2026-00017", consumer="Gannet Ferries", open=Decimal("34.44"))
LONGER = Payable(number="INV-2026-000171", consumer="Gannet Ferries", open=Decimal("34.44"))
OTHER = Payable(number="INV-2026-00018", consumer="Saltmarsh Kayaks Lda", open=Decimal("12.00"))


def line(text: str = "", amount: str = "34.44", reference: str = "", name: str = "") -> BankLine:
    return BankLine(
        reference="B1",
        booked_on=DAY,
        value_on=DAY,
        amount=Decimal(amount),
        currency="EUR",
        name=name,
        text=text,
        creditor_reference=reference,
    )


@pytest.mark.parametrize(
    "text",
    [
        "RF32INV202600017",
        "rf32 inv2 0260 0017 thank you",
        "Invoice INV-2026-00017, October",
        "inv 2026 00017",
        "your INV/2026-00017".replace("/", "-"),
    ],
)
def test_an_invoice_is_named_by_its_reference_or_number_however_it_is_spaced(text: str) -> None:
    assert named(line(text), FIRST)
    assert not named(line(text), OTHER)


def test_a_longer_number_is_another() -> None:
    assert not named(line("INV-2026-000171"), FIRST)
    assert named(line("INV-2026-000171"), LONGER)
    assert named(line("INV-2026-00017 of 1 October"), FIRST)
    assert named(line("thanks", reference="RF32INV202600017"), FIRST)


def test_what_names_one_invoice_with_its_amount_is_sure() -> None:
    assert sure(line("INV-2026-00017"), [FIRST, OTHER]) == FIRST
    assert sure(line("INV-2026-00017", "34.43"), [FIRST, OTHER]) is None
    assert sure(line("INV-2026-00017 INV-2026-00018"), [FIRST, OTHER]) is None
    assert sure(line("thanks"), [FIRST]) is None  # an amount alone is none
    assert sure(line("INV-2026-00017", "-34.44"), [FIRST]) is None


def test_the_likeliest_is_suggested_first_with_all_that_speaks_for_it() -> None:
    many = [LONGER, OTHER, FIRST]
    found = suggested(line("INV-2026-00018", "34.44", name="GANNET FERRIES SA"), many)
    assert [(each.number, each.why) for each in found] == [
        ("INV-2026-00018", ("reference",)),
        ("INV-2026-00017", ("amount", "name")),
        ("INV-2026-000171", ("amount", "name")),
    ]
    assert suggested(line("hello", "1.00", name="Nobody Lda"), many) == []
    assert len(suggested(line(name="Gannet"), [FIRST] * 9)) == 5
