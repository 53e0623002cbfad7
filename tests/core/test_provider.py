"""What the provider's settings may be, and which stay as they are."""

from __future__ import annotations

from dataclasses import fields, replace
from datetime import date
from decimal import Decimal
from typing import Any

import pytest

from calm_tariff.core.billing.documents.tax import Rate
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.provider import LOCKED, ProviderSettings, checked, different, refuse_locked
from calm_tariff.core.sentences.settings import EFFECTS

GOOD = ProviderSettings(
    name="Isle Office",
    time_zone="Europe/Lisbon",
    currency="EUR",
    tax_percent=Decimal("6.5"),
    mail_from="a@isle.example",
)
WRONG: list[tuple[dict[str, Any], str]] = [
    ({"name": " "}, "name"),
    ({"name": "\u202eOffice"}, "name"),
    ({"address": "Quay 1\n\u202e2"}, "address"),
    ({"address": "x" * 501}, "address"),
    ({"time_zone": "Atlantis/Deep"}, "time_zone"),
    ({"currency": "eur"}, "currency"),
    ({"currency": "ZZZ"}, "currency"),
    ({"tax_percent": Decimal("-1")}, "tax_percent"),
    ({"tax_percent": Decimal("100.1")}, "tax_percent"),
    ({"tax_percent": Decimal("1.00001")}, "tax_percent"),
    ({"payment_days": -1}, "payment_days"),
    ({"payment_days": 121}, "payment_days"),
    ({"working_days": ()}, "working_days"),
    ({"working_days": (0, 7)}, "working_days"),
    ({"body_days": 0}, "body_days"),
    ({"body_days": 91}, "body_days"),
    ({"target_days": -1}, "target_days"),
    ({"target_days": 10_000}, "target_days"),
    ({"call_months": 2}, "call_months"),
    ({"call_months": -1}, "call_months"),
    ({"call_months": 241}, "call_months"),
    ({"invoice_prefix": ""}, "invoice_prefix"),
    ({"invoice_prefix": "inv"}, "invoice_prefix"),
    ({"invoice_prefix": "2026"}, "invoice_prefix"),
    ({"invoice_prefix": "ABCDEFGHIJK"}, "invoice_prefix"),
    ({"invoice_prefix": "CN"}, "invoice_prefix"),  # what credit notes begin with
    ({"credit_note_prefix": "cn"}, "credit_note_prefix"),
    ({"review_percent": 0}, "review_percent"),
    ({"review_percent": 1001}, "review_percent"),
    ({"charge_after_days": 28}, "charge_after_days"),
    ({"charge_after_days": -1}, "charge_after_days"),
    ({"adjustment_limit": Decimal("-1")}, "adjustment_limit"),
    ({"adjustment_limit": Decimal("1.005")}, "adjustment_limit"),
    ({"adjustment_limit": Decimal("NaN")}, "adjustment_limit"),
    ({"write_off_limit": Decimal("-0.01")}, "write_off_limit"),
    ({"write_off_limit": Decimal("0.001")}, "write_off_limit"),
    ({"reminders_after_days": (3, 2)}, "reminders_after_days[1]"),
    ({"reminders_after_days": (0,)}, "reminders_after_days[0]"),
    ({"pause_after_days": 366}, "pause_after_days"),
    ({"tax_changes": (Rate(since=date(2027, 1, 1), percent=Decimal(101)),)}, "tax_changes.0.percent"),
    ({"tax_changes": (Rate(since=date(2027, 1, 1), percent=Decimal(1)),) * 2}, "tax_changes.1.since"),
    ({"tax_changes": (Rate(since=date(2027, 1, 1), percent=Decimal(1)),) * 51}, "tax_changes"),
]


def test_settings_that_mean_something_are_taken() -> None:
    checked(GOOD)
    checked(replace(GOOD, address="Quay 1\n\n4900 Larkmouth", working_days=(6,), payment_days=0, body_days=90))
    checked(replace(GOOD, reminders_after_days=(), pause_after_days=None, write_off_limit=Decimal(0)))
    checked(replace(GOOD, target_days=0, invoice_prefix="LTO2", call_months=3))


@pytest.mark.parametrize(("wrong", "where"), WRONG)
def test_what_means_nothing_is_refused_by_name(wrong: dict[str, Any], where: str) -> None:
    with pytest.raises(Invalid) as refused:
        checked(replace(GOOD, **wrong))
    assert refused.value.where == where


def test_what_is_locked_is_refused_by_name_and_the_rest_is_not() -> None:
    free = replace(GOOD, name="Other", tax_percent=Decimal(7), payment_days=3)
    refuse_locked(GOOD, free, LOCKED)
    assert different(GOOD, free) == ["name", "tax_percent", "payment_days"] and different(GOOD, GOOD) == []
    for name, value in (("currency", "GBP"), ("time_zone", "UTC")):
        with pytest.raises(Conflict) as refused:
            refuse_locked(GOOD, replace(GOOD, **{name: value}), LOCKED)
        assert refused.value.where == name
        refuse_locked(GOOD, replace(GOOD, **{name: value}), ())


def test_each_setting_says_what_it_changes() -> None:
    assert list(EFFECTS) == [f.name for f in fields(ProviderSettings)]
