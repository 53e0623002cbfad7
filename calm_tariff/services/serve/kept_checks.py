"""The limits of a recorded call as they were checked, read back from what its record keeps."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, cast

from calm_tariff.core.limits import Limit
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.store.serve.usage import Call


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptCheck:
    """A limit as it was checked. `layer` is where it came from: plan unless the receipt says otherwise."""

    limit: Limit
    layer: str
    refused: bool
    wait_us: int
    left: Decimal
    before: Decimal
    used: Decimal

    @property
    def cost(self) -> Decimal:
        """What the call took of it."""
        return self.used - self.before


def kept_checks(call: Call, terms: PlanTerms) -> Iterator[KeptCheck]:
    """The limits of a call in the order tested, by the terms it was decided under."""
    known = {limit.name: limit for limit in (*terms.limits, *terms.overrides)}
    for name, refused, wait_us, left, used, *kept in call.checks:
        limit = cast(Limit, read(cast(Any, Limit), kept[0])) if kept else known[name]
        layer = kept[1] if len(kept) > 1 else "above" if kept else "plan"
        before, after = used if isinstance(used, list) else (_before(call, used), used or 0)
        yield KeptCheck(
            limit=limit,
            layer=layer,
            refused=refused,
            wait_us=wait_us,
            left=Decimal(left or 0),
            before=Decimal(before),
            used=Decimal(after),
        )


def _before(call: Call, used: str | None) -> Decimal:
    """What was used before a call whose record says only what was used after it."""
    return Decimal(used or 0) - (call.reserved if call.verdict != "refused" else 0)
