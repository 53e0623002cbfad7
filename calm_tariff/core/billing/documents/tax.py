"""Tax: the treatment of a line, and what comes of the lines of a document, group by group
(docs/arithmetic.md, section 5)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from typing import Literal

from calm_tariff.core import names
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import percent_of, rounded, total
from calm_tariff.core.prices import ZERO
from calm_tariff.core.rating import TaxTreatment

Treatment = Literal["standard", "exempt", "reverse charge"]
TREATMENTS: tuple[Treatment, ...] = ("standard", "exempt", "reverse charge")
# What an invoice has to say where no tax is charged: Directive 2006/112/EC, article 226, points 11 and 11a.
NOTES: dict[Treatment, str] = {
    "standard": "",
    "exempt": "Exempt from VAT",
    "reverse charge": "Reverse charge: the recipient is liable for the VAT",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Rate:
    """The percent of the standard treatment from a day on, until the next."""

    since: date
    percent: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class TaxRule:
    """How a line is taxed. The percent of all but the standard treatment is 0."""

    treatment: Treatment
    percent: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class Taxed:
    """A rounded line with how it is taxed."""

    rule: TaxRule
    amount: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class TaxGroup:
    """The lines of a document under one rule: their sum, and the tax on it, rounded once."""

    rule: TaxRule
    base: Decimal
    tax: Decimal


def treatment(name: str, field: str = "treatment") -> Treatment:
    """A treatment as somebody named it. Raises `Invalid`, naming the field."""
    for each in TREATMENTS:
        if each == name:
            return each
    raise Invalid(f"must be one of {', '.join(TREATMENTS)}", field)


def note(treatment: Treatment, text: str, known_by: str) -> str:
    """What exempts a consumer, as it is kept; "" where nothing does. `known_by` is its tax number. Raises `Invalid`,
    naming the field, where an exemption has no reason, or the tax would be owed by somebody without a number."""
    if treatment == "reverse charge" and not known_by:
        raise Invalid("is needed where the recipient owes the tax", "tax_number")
    if treatment != "exempt":
        return ""
    if not text.strip():
        raise Invalid("say what exempts it: it stands on the invoice", "tax_note")
    return names.plain(text, "tax_note")


def rates(first: Decimal, changes: Iterable[Rate] = ()) -> tuple[Rate, ...]:
    """A percent that holds until the first change, and the changes."""
    return (Rate(since=date.min, percent=first), *changes)


def percent_on(rates: Sequence[Rate], day: date) -> Decimal:
    """The standard percent on a day. Raises `Invalid` where none is in force yet."""
    begun = [rate for rate in rates if rate.since <= day]
    if not begun:
        raise Invalid(f"has no tax percent on {day}", "tax_percent")
    return max(begun, key=lambda rate: rate.since).percent


def rule_of(plan: TaxTreatment, consumer: Treatment, percent: Decimal) -> TaxRule:
    """How a line is taxed: what the plan exempts stays so, else by the consumer's tax profile. `percent` is that of
    the standard treatment on the day."""
    treatment: Treatment = "exempt" if plan == "exempt" else consumer
    return TaxRule(treatment=treatment, percent=percent if treatment == "standard" else ZERO)


def groups(lines: Iterable[Taxed], currency: str) -> tuple[TaxGroup, ...]:
    """The tax groups of a document: the standard treatment first, of each the highest percent."""
    amounts: dict[TaxRule, list[Decimal]] = {}
    for line in lines:
        rule = TaxRule(treatment=line.rule.treatment, percent=line.rule.percent.normalize())
        amounts.setdefault(rule, []).append(line.amount)
    found = []
    for rule in sorted(amounts, key=lambda r: (TREATMENTS.index(r.treatment), -r.percent)):
        base = rounded(total(amounts[rule]), currency)
        found.append(TaxGroup(rule=rule, base=base, tax=rounded(percent_of(base, rule.percent), currency)))
    return tuple(found)
