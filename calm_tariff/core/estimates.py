"""What a whole month would cost at a quantity: the estimate of sheets and portals (docs/arithmetic.md, section 3)."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.periods import Period, day_start, moment_of, zone
from calm_tariff.core.rating import Pricing, RatingCase, Segment, rate


def whole_month(
    *, pricing: Pricing, meter: str | None, units: Decimal, currency: str, time_zone: str, month: Period
) -> Decimal:
    """A month from its first to its last day, with so many units of one meter, before tax: rated as an invoice is."""
    where = zone(time_zone)
    start = moment_of(day_start(month.start, where)).astimezone(where)
    usage = {meter: units} if meter else {}
    case = RatingCase(
        currency=currency,
        time_zone=time_zone,
        period=month,
        tax_percent=Decimal(0),
        segments=(Segment(start=start, end=None, plan=pricing, usage=usage),),
    )
    return rate(case).subtotal
