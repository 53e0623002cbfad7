"""What people read of alerts."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.money import minor_digits
from calm_tariff.core.sentences.terms import money, number


def allowance_alert_in_words(percent: int, allowance: str, application: str, offer: str) -> str:
    """A threshold of an allowance."""
    return f"{percent}% of {allowance} of {application}, on {offer}"


def money_alert_in_words(amount: Decimal, currency: str) -> str:
    """A threshold of the month's charge."""
    return f"{money(_shortest(amount, minor_digits(currency)), currency)} of the month's charge, before tax"


def allowance_reached_in_words(used: Decimal, units: Decimal, when_spent: str) -> str:
    """How an allowance stands whose threshold was reached, and what comes of it."""
    then = {
        "refuse": "once all of it is used, calls are refused",
        "charge": "what is used beyond it is charged",
        "warn": "nothing comes of it when all is used",
    }[when_spent]
    return f"{number(_shortest(used))} of {number(_shortest(units))} are used; {then}"


def charge_reached_in_words(charge: Decimal, currency: str) -> str:
    """How the month's charge stands that reached a threshold."""
    return f"it comes to {money(charge, currency)} so far"


def _shortest(value: Decimal, places: int = 0) -> Decimal:
    """A figure without the zeros at its end, but with so many places."""
    least = Decimal(1).scaleb(-places)
    return value.quantize(least) if value == value.quantize(least) else value.normalize()
