"""What later knowledge changes about a period already invoiced (docs/arithmetic.md, section 3)."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.core.money import rounded
from calm_tariff.core.prices import ZERO
from calm_tariff.core.rating import Charge, Line, LineKind, RatingCase, rate

LineKey = tuple[int, LineKind, str | None, int]


def difference(invoiced: RatingCase, known_now: RatingCase) -> tuple[Line, ...]:
    """charge(period as known now) − charge(period as invoiced), line by line.

    Lines without a difference are left out. Negative amounts make a credit note.
    """
    before, after = _keyed(rate(invoiced)), _keyed(rate(known_now))
    lines = []
    for key in sorted({**after, **before}, key=lambda k: k[0]):
        old, new = before.get(key), after.get(key)
        amount = (new.amount if new else ZERO) - (old.amount if old else ZERO)
        quantity = _change(old.quantity if old else None, new.quantity if new else None)
        if amount or quantity:
            lines.append(
                Line(
                    segment=key[0],
                    kind=key[1],
                    meter=key[2],
                    quantity=quantity,
                    priced=_change(old.priced if old else None, new.priced if new else None),
                    amount=rounded(amount, known_now.currency),
                )
            )
    return tuple(lines)


def _keyed(charge: Charge) -> dict[LineKey, Line]:
    found: dict[LineKey, Line] = {}
    for line in charge.lines:
        place = 0
        while (line.segment, line.kind, line.meter, place) in found:
            place += 1
        found[line.segment, line.kind, line.meter, place] = line
    return found


def _change(before: Decimal | None, after: Decimal | None) -> Decimal | None:
    return None if before is None and after is None else (after or ZERO) - (before or ZERO)
