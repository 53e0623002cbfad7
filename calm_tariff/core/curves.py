"""The charge of a month as a function of one meter's quantity, and where two plans cost the same
(docs/arithmetic.md, section 4). Exact: straight pieces, no sampling.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from types import MappingProxyType

from calm_tariff.core.prices import Blocks, Fee, Graduated, PerUnit, Setup, UsagePrice, Volume
from calm_tariff.core.rating import Pricing


@dataclass(frozen=True, slots=True)
class Piece:
    """On quantities in (start, end] the charge is `base` + `slope` · (quantity − start).

    The first piece also holds its start.
    """

    start: Fraction
    end: Fraction
    base: Fraction
    slope: Fraction

    def at(self, quantity: Fraction) -> Fraction:
        """The charge at a quantity of this piece, unrounded."""
        return self.base + self.slope * (quantity - self.start)


Curve = tuple[Piece, ...]
NOTHING_ELSE: Mapping[str, Decimal] = MappingProxyType({})


def charge_curve(plan: Pricing, meter: str, top: int, others: Mapping[str, Decimal] = NOTHING_ELSE) -> Curve:
    """The charge of a whole month at 0 … `top` units of a meter, all other usage as it is (0 where it is not named).

    Setup is left out: it is not a month's cost. Steps of flats and blocks are jumps between pieces.
    """
    fee = sum((Fraction(p.amount) for p in plan.prices if isinstance(p, Fee)), Fraction(0))
    for p in plan.prices:
        if not isinstance(p, Setup | Fee) and p.meter != meter and (units := others.get(p.meter)):
            fee += charge_at(tuple(_usage(p, Fraction(units))), units)
    price = next((p for p in plan.prices if not isinstance(p, Setup | Fee) and p.meter == meter), None)
    pieces = _usage(price, Fraction(top)) if price else [Piece(Fraction(0), Fraction(top), Fraction(0), Fraction(0))]
    factor = 1 - Fraction(plan.discount_percent) / 100
    scaled = [Piece(p.start, p.end, (p.base + fee) * factor, p.slope * factor) for p in pieces]
    if plan.minimum is not None:
        scaled = _bounded(scaled, Fraction(plan.minimum), least=True)
    if plan.cap is not None:
        scaled = _bounded(scaled, Fraction(plan.cap), least=False)
    return tuple(_joined(scaled))


def charge_at(curve: Curve, quantity: Decimal | int | Fraction) -> Fraction:
    """The unrounded charge at a quantity; beyond the curve's end its last piece goes on."""
    q = Fraction(quantity)
    for piece in curve:
        if q <= piece.end:
            return piece.at(q)
    return curve[-1].at(q)


@dataclass(frozen=True, slots=True)
class CurvePoint:
    """A corner of a charge curve: units, and the month's charge there."""

    units: Decimal
    charge: Decimal


def within(curve: Curve, end: Decimal | None) -> Curve:
    """A curve as far as an allowance reaches (None: as far as it goes); empty where that is nowhere."""
    if end is None:
        return curve
    cut = [p for p in curve if p.start < end]
    return tuple(Piece(p.start, min(p.end, Fraction(end)), p.base, p.slope) for p in cut)


def corners(curve: Curve) -> list[CurvePoint]:
    """The two ends of each piece, for drawing: six places are more than a picture can show."""
    ends = (((p.start, p.base), (p.end, p.at(p.end))) for p in curve)
    return [CurvePoint(_six(units), _six(charge)) for pair in ends for units, charge in pair]


def top(meter: str, plans: Iterable[Pricing], quantities: Iterable[Decimal | int]) -> int:
    """How far curves over a meter are drawn: beyond what its prices speak of, and beyond all quantities."""
    ends = [1000, *(int(n * 23 // 20) for n in quantities)]
    for plan in plans:
        for price in plan.prices:
            if isinstance(price, Setup | Fee) or price.meter != meter:
                continue
            ends.append(int(price.included * 5 / 4))
            if isinstance(price, Graduated | Volume):
                ends += [int((price.included + tier.up_to) * 3 / 2) for tier in price.tiers if tier.up_to]
    return max(ends)


def break_evens(one: Curve, other: Curve) -> tuple[Fraction, ...]:
    """The quantities at which the cheaper of two plans changes, rising.

    Where the curves run together, or only touch, there is none.
    """
    top = min(one[-1].end, other[-1].end)
    found: list[Fraction] = []
    sign = 0
    i = j = 0
    start = Fraction(0)
    while start < top:
        a, b = one[i], other[j]
        end = min(a.end, b.end, top)
        left, right = a.at(start) - b.at(start), a.at(end) - b.at(end)
        for value, at_left in ((left, True), (right, False)):
            now = (value > 0) - (value < 0)
            if now and sign and now != sign:
                found.append(start if at_left else start + (end - start) * left / (left - right))
            sign = now or sign
        i, j, start = i + (a.end == end), j + (b.end == end), end
    return tuple(found)


def _six(exact: Fraction) -> Decimal:
    return Decimal(round(exact * 1_000_000)).scaleb(-6)


def _usage(price: UsagePrice, top: Fraction) -> list[Piece]:
    """The usage line by metered quantity: nothing up to what is included, then the price."""
    free = min(Fraction(price.included), top)
    # A quantity of 0 costs 0, flat included: where nothing is included, 0 is a piece of its own.
    pieces = [Piece(Fraction(0), free, Fraction(0), Fraction(0))]
    for start, end, base, slope in _steps(price, top - free):
        if end > start:
            pieces.append(Piece(free + start, free + end, base, slope))
    return pieces


def _steps(price: UsagePrice, most: Fraction) -> list[tuple[Fraction, Fraction, Fraction, Fraction]]:
    zero = Fraction(0)
    if isinstance(price, PerUnit):
        return [(zero, most, zero, Fraction(price.unit))]
    if isinstance(price, Blocks):
        size, amount = Fraction(price.block), Fraction(price.amount)
        count = -(-most // size)
        return [(i * size, min((i + 1) * size, most), (i + 1) * amount, zero) for i in range(int(count))]
    steps = []
    start, sum_below = zero, zero
    for tier in price.tiers:
        end = most if tier.up_to is None else min(Fraction(tier.up_to), most)
        unit, flat = Fraction(tier.unit), Fraction(tier.flat)
        if isinstance(price, Graduated):
            steps.append((start, end, sum_below + flat, unit))
            sum_below += flat + unit * (end - start)
        else:
            steps.append((start, end, unit * start + flat, unit))
        start = end
    return steps


def _bounded(pieces: list[Piece], bound: Fraction, least: bool) -> list[Piece]:
    """The pieces held at or above (least) or at or below a bound, cut where they meet it."""
    held = []
    for piece in pieces:
        cuts = [piece.start, piece.end]
        if piece.slope:
            meets = piece.start + (bound - piece.base) / piece.slope
            if piece.start < meets < piece.end:
                cuts.insert(1, meets)
        for start, end in itertools.pairwise(cuts):
            middle = piece.at((start + end) / 2)
            beyond = middle < bound if least else middle > bound
            held.append(
                Piece(start, end, bound, Fraction(0)) if beyond else Piece(start, end, piece.at(start), piece.slope)
            )
    return held


def _joined(pieces: list[Piece]) -> list[Piece]:
    joined: list[Piece] = []
    for piece in pieces:
        last = joined[-1] if joined else None
        if last and last.slope == piece.slope and last.at(piece.start) == piece.base:
            joined[-1] = Piece(last.start, piece.end, last.base, last.slope)
        else:
            joined.append(piece)
    return joined
