"""Charges computed the slow way, from the words of docs/arithmetic.md, section 3, and from nothing in `core`."""

from __future__ import annotations

from datetime import date, datetime, time, timedelta
from fractions import Fraction
from math import ceil, floor
from typing import Any
from zoneinfo import ZoneInfo

MINOR = {"EUR": 2, "JPY": 0, "KWD": 3}


def money(amount: Fraction, currency: str) -> Fraction:
    """Half up, away from zero, to the minor unit."""
    scaled = abs(amount) * 10 ** MINOR[currency]
    whole = floor(scaled + Fraction(1, 2))
    return Fraction(whole if amount >= 0 else -whole, 10 ** MINOR[currency])


def written(amount: Fraction, currency: str) -> str:
    digits = MINOR[currency]
    units = amount * 10**digits
    assert units.denominator == 1
    text = f"{abs(units.numerator):0{digits + 1}d}"
    return ("-" if units < 0 else "") + (f"{text[:-digits]}.{text[-digits:]}" if digits else text)


def days_of(case: dict[str, Any]) -> list[datetime]:
    """The instants at which the period's local days end."""
    where = ZoneInfo(case["time_zone"])
    first, after = (date.fromisoformat(case["period"][name]) for name in ("start", "end"))
    days = (after - first).days
    return [datetime.combine(first + timedelta(days=n + 1), time(), where) for n in range(days)]


def _within(day_end: datetime, pause: dict[str, Any]) -> bool:
    end = pause["end"] and datetime.fromisoformat(pause["end"])
    return datetime.fromisoformat(pause["start"]) < day_end and (end is None or day_end <= end)


def cost(price: dict[str, Any], priced: Fraction) -> Fraction:
    """What a quantity costs under a usage price."""
    if priced == 0:
        return Fraction(0)
    if price["model"] == "per_unit":
        return priced * Fraction(price["unit"])
    if price["model"] == "blocks":
        return ceil(priced / Fraction(price["block"])) * Fraction(price["amount"])
    low, total = Fraction(0), Fraction(0)
    for tier in price["tiers"]:
        high = None if tier["up_to"] is None else Fraction(tier["up_to"])
        unit, flat = Fraction(tier["unit"]), Fraction(tier.get("flat", "0"))
        if price["model"] == "volume":
            if high is None or priced <= high:
                return priced * unit + flat
            continue
        inside = (priced if high is None else min(priced, high)) - low
        if inside > 0:
            total += inside * unit + flat
        low = high or low
    return total


def charge(case: dict[str, Any]) -> dict[str, Any]:
    """Lines and totals of a case, in the shape of `./calm rate`, amounts and kinds alone."""
    currency = case["currency"]
    ends = days_of(case)
    lines: list[tuple[int, str, str | None, Fraction]] = []
    for place, segment in enumerate(case["segments"]):
        plan = segment["plan"]
        start = datetime.fromisoformat(segment["start"])
        end = datetime.fromisoformat(segment["end"]) if segment["end"] else None
        # A day that ends at the very instant a segment begins had ended before it.
        days = sum(
            start < day
            and (end is None or day <= end)
            and not any(_within(day, each) for each in segment.get("pauses", []))
            for day in ends
        )
        share = Fraction(days, len(ends)) if plan["prorate"] else Fraction(1)
        trial = segment["trial"]
        if segment["first"] and not trial:
            for price in plan["prices"]:
                if price["kind"] == "setup":
                    lines.append((place, "setup", None, money(Fraction(price["amount"]), currency)))
        base = Fraction(0)
        for kind in ("fee", "usage"):
            for price in plan["prices"]:
                if price["kind"] != kind:
                    continue
                if trial:
                    amount = Fraction(0)
                elif kind == "fee":
                    amount = Fraction(price["amount"]) * share if days or plan["prorate"] else Fraction(0)
                else:
                    included = ceil(Fraction(price["included"]) * share) if share != 1 else Fraction(price["included"])
                    quantity = Fraction(segment["usage"].get(price["meter"], "0"))
                    amount = cost(price, max(quantity - included, Fraction(0)))
                amount = money(amount, currency)
                base += amount
                lines.append((place, kind, price.get("meter"), amount))
        if trial:
            continue
        if Fraction(plan["discount_percent"]) > 0:
            less = money(-base * Fraction(plan["discount_percent"]) / 100, currency)
            base += less
            lines.append((place, "discount", None, less))
        if days:
            least = money(Fraction(plan["minimum"]) * share, currency) if plan["minimum"] is not None else None
            if least is not None and base < least:
                lines.append((place, "minimum", None, least - base))
                base = least
            most = money(Fraction(plan["cap"]) * share, currency) if plan["cap"] is not None else None
            if most is not None and base > most:
                lines.append((place, "cap", None, most - base))
    subtotal = sum((amount for *_, amount in lines), Fraction(0))
    tax = money(subtotal * Fraction(case["tax_percent"]) / 100, currency)
    return {
        "lines": [
            {"segment": place, "kind": kind, "meter": meter, "amount": written(amount, currency)}
            for place, kind, meter, amount in lines
        ],
        "subtotal": written(subtotal, currency),
        "tax": written(tax, currency),
        "total": written(subtotal + tax, currency),
    }
