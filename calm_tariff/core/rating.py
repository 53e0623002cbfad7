"""From a subscription's segments and usage to lines, tax and total (docs/arithmetic.md, section 3)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from fractions import Fraction
from typing import Literal

from calm_tariff.core import prices
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import EXACT, minor_digits, percent_of, rounded, total
from calm_tariff.core.periods import Period, days_ending_in, instant_if_any, instant_of, zone
from calm_tariff.core.prices import ZERO, Fee, Price, Setup, Slice, UsagePrice

TaxTreatment = Literal["standard", "exempt"]
LineKind = Literal["setup", "fee", "usage", "discount", "minimum", "cap"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Pricing:
    """The prices of one plan revision. `tax` exempt keeps its lines out of what tax is reckoned on."""

    prices: tuple[Price, ...]
    prorate: bool = True
    minimum: Decimal | None = None
    cap: Decimal | None = None
    discount_percent: Decimal = ZERO
    tax: TaxTreatment = "standard"


@dataclass(frozen=True, slots=True, kw_only=True)
class Paused:
    """A stretch in which a subscription was paused. A day that ends in one is no day of its segment."""

    start: datetime
    end: datetime | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Segment:
    """A stretch of a subscription under one revision, with the usage metered in it, by meter. `pauses` do not overlap;
    of each, the part inside the segment counts.

    `first` marks the segment in which the setup price falls due. A trial never has it due, so
    whoever cuts the segments marks the first one after the trial.
    """

    start: datetime
    end: datetime | None
    plan: Pricing
    first: bool = False
    trial: bool = False
    usage: dict[str, Decimal] = field(default_factory=dict)
    pauses: tuple[Paused, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class RatingCase:
    """All that is needed to compute one invoice again: the shape of an evidence file."""

    currency: str
    time_zone: str
    period: Period
    tax_percent: Decimal
    segments: tuple[Segment, ...]


@dataclass(frozen=True, slots=True)
class Line:
    """One rounded figure. `slices` are its exact steps, `days` the segment's days behind a share."""

    segment: int
    kind: LineKind
    meter: str | None
    quantity: Decimal | None
    priced: Decimal | None
    amount: Decimal
    included: Decimal | None = None
    slices: tuple[Slice, ...] = ()
    days: int = 0


@dataclass(frozen=True, slots=True)
class Charge:
    """Lines with their sum, the tax on it and the total, all in the currency's minor unit."""

    lines: tuple[Line, ...]
    subtotal: Decimal
    tax: Decimal
    total: Decimal


def check(case: RatingCase) -> None:
    """Raise `Invalid`, naming the field, for a case that cannot be computed."""
    minor_digits(case.currency)
    zone(case.time_zone)
    if case.period.start >= case.period.end:
        raise Invalid("must lie after period.start", "period.end")
    if case.tax_percent < 0:
        raise Invalid("must not be below 0", "tax_percent")
    for place, segment in enumerate(case.segments):
        at = f"segments[{place}]"
        _check_span(segment, "segment", at)
        for nth, pause in enumerate(segment.pauses):
            _check_span(pause, "pause", f"{at}.pauses[{nth}]")
            before = segment.pauses[nth - 1] if nth else None
            if before is not None and (before.end is None or pause.start < before.end):
                raise Invalid("must not begin before the one before it has ended", f"{at}.pauses[{nth}].start")
        check_pricing(segment.plan, f"{at}.plan")
        for meter, units in segment.usage.items():
            if units < 0:
                raise Invalid("must not be below 0", f"{at}.usage.{meter}")


def _check_span(span: Segment | Paused, what: str, at: str) -> None:
    for name in ("start", "end"):
        moment = getattr(span, name)
        if moment is not None and moment.tzinfo is None:
            raise Invalid("must say its offset from UTC", f"{at}.{name}")
    if span.end is not None and span.end < span.start:
        raise Invalid(f"must not lie before the {what}'s start", f"{at}.end")


def check_pricing(plan: Pricing, where: str) -> None:
    """Raise `Invalid`, naming the field, for prices that cannot be computed."""
    for name in ("minimum", "cap", "discount_percent"):
        value = getattr(plan, name)
        if value is not None and value < 0:
            raise Invalid("must not be below 0", f"{where}.{name}")
    if plan.discount_percent > 100:
        raise Invalid("must not be above 100", f"{where}.discount_percent")
    for place, price in enumerate(plan.prices):
        prices.check(price, f"{where}.prices[{place}]")


def rate(case: RatingCase) -> Charge:
    """The charge of one period. Raises `Invalid` for a malformed case."""
    check(case)
    lines: list[Line] = []
    for place, segment in enumerate(case.segments):
        lines.extend(_segment_lines(case, place, segment))
    subtotal = rounded(total(line.amount for line in lines), case.currency)
    taxed = [line for line in lines if case.segments[line.segment].plan.tax == "standard"]
    base = subtotal if len(taxed) == len(lines) else rounded(total(t.amount for t in taxed), case.currency)
    tax = rounded(percent_of(base, case.tax_percent), case.currency)
    return Charge(tuple(lines), subtotal, tax, subtotal + tax)


def share_of(case: RatingCase, segment: Segment) -> tuple[int, Fraction]:
    """The days of the period that belong to a segment, and their share of the period. Days that end in a pause do
    not."""
    where = zone(case.time_zone)
    start, end = instant_of(segment.start), instant_if_any(segment.end)
    days = days_ending_in(start, end, case.period, where)
    for pause in segment.pauses:
        until = min((at for at in (instant_if_any(pause.end), end) if at is not None), default=None)
        since = max(instant_of(pause.start), start)
        if until is None or since < until:
            days -= days_ending_in(since, until, case.period, where)
    return days, Fraction(days, case.period.days)


def included_units(price: UsagePrice, plan: Pricing, share: Fraction) -> Decimal:
    """The units a segment has free: all of them, or its share rounded up to a whole unit."""
    if not plan.prorate or share == 1:
        return price.included
    return _whole_up(Fraction(price.included) * share)


def _segment_lines(case: RatingCase, place: int, segment: Segment) -> Iterator[Line]:
    plan, currency = segment.plan, case.currency
    days, share = share_of(case, segment)
    nothing = rounded(ZERO, currency)
    for price in plan.prices:
        if isinstance(price, Setup) and segment.first and not segment.trial:
            yield Line(
                segment=place,
                kind="setup",
                meter=None,
                quantity=None,
                priced=None,
                amount=rounded(price.amount, currency),
            )
    base = ZERO
    for price in plan.prices:
        if isinstance(price, Fee):
            amount = nothing if segment.trial else _fee(price, plan, days, share, currency)
            base += amount
            yield Line(segment=place, kind="fee", meter=None, quantity=None, priced=None, amount=amount, days=days)
    for price in plan.prices:
        if isinstance(price, Setup | Fee):
            continue
        quantity = segment.usage.get(price.meter, ZERO)
        included = included_units(price, plan, share)
        priced = max(EXACT.subtract(quantity, included), ZERO)
        steps = () if segment.trial else prices.slices(price, priced)
        amount = rounded(total(step.amount for step in steps), currency)
        base += amount
        yield Line(
            segment=place,
            kind="usage",
            meter=price.meter,
            quantity=quantity,
            priced=priced,
            amount=amount,
            included=included,
            slices=steps,
            days=days,
        )
    if segment.trial:
        return
    if plan.discount_percent > 0:
        amount = rounded(-percent_of(base, plan.discount_percent), currency)
        base += amount
        yield Line(segment=place, kind="discount", meter=None, quantity=None, priced=None, amount=amount)
    if days == 0:
        return
    if plan.minimum is not None:
        least = _portion(plan.minimum, plan, share, currency)
        if base < least:
            yield Line(
                segment=place, kind="minimum", meter=None, quantity=None, priced=None, amount=least - base, days=days
            )
            base = least
    if plan.cap is not None:
        most = _portion(plan.cap, plan, share, currency)
        if base > most:
            yield Line(segment=place, kind="cap", meter=None, quantity=None, priced=None, amount=most - base, days=days)


def _fee(price: Fee, plan: Pricing, days: int, share: Fraction, currency: str) -> Decimal:
    if not plan.prorate:
        return rounded(price.amount if days else ZERO, currency)
    return _portion(price.amount, plan, share, currency)


def _portion(amount: Decimal, plan: Pricing, share: Fraction, currency: str) -> Decimal:
    """An amount, or its share where the plan prorates, rounded half away from zero."""
    if not plan.prorate:
        return rounded(amount, currency)
    digits = minor_digits(currency)
    minor = Fraction(amount) * share * 10**digits
    whole = (2 * minor.numerator + minor.denominator) // (2 * minor.denominator)
    return Decimal(whole).scaleb(-digits)


def _whole_up(units: Fraction) -> Decimal:
    return Decimal(-(-units.numerator // units.denominator))
