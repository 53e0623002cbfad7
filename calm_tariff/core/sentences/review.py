"""What is out of the ordinary of a draft invoice, in words."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.billing.documents.review import Finding
from calm_tariff.core.money import plain, rounded
from calm_tariff.core.sentences.terms import money, number


def finding_in_words(of: Finding, currency: str) -> str:
    """One thing out of the ordinary."""
    if of.mean is not None:
        mean = money(rounded(of.mean, currency), currency)
        if of.percent is None:
            return "nothing was charged in the last months"
        return f"{of.percent:,}% {'more' if of.kind == 'up' else 'less'} than {mean}, the mean of the last months"
    if of.units is not None:
        came = "more" if of.units > 0 else "fewer"
        units = number(Decimal(plain(abs(of.units))))
        return f"usage is still arriving: {units} units {came} since the draft before"
    return {
        "negative": "comes to less than nothing: it cannot be issued",
        "no payment method": "nobody has said how it is paid",
        "first invoice": "the first invoice of its consumer",
        "adjusted": "adjusted by a person",
        "nothing due": "nothing is due: no invoice is issued",
    }[of.kind]
