"""The price models of a plan, and what each makes of a quantity (docs/arithmetic.md, section 3)."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import ROUND_CEILING, Decimal
from typing import Literal

from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import EXACT, total

ZERO = Decimal(0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Setup:
    """Charged once, in a subscription's first segment that is not a trial."""

    amount: Decimal
    kind: Literal["setup"] = "setup"


@dataclass(frozen=True, slots=True, kw_only=True)
class Fee:
    """Charged every period."""

    amount: Decimal
    kind: Literal["fee"] = "fee"


@dataclass(frozen=True, slots=True, kw_only=True)
class Tier:
    """A step of a tiered price: up to a quantity (None: without end), per unit and once."""

    up_to: Decimal | None
    unit: Decimal = ZERO
    flat: Decimal = ZERO


@dataclass(frozen=True, slots=True, kw_only=True)
class PerUnit:
    """Every priced unit costs the same."""

    meter: str
    unit: Decimal
    included: Decimal = ZERO
    kind: Literal["usage"] = "usage"
    model: Literal["per_unit"] = "per_unit"


@dataclass(frozen=True, slots=True, kw_only=True)
class Graduated:
    """Each tier prices the part of the quantity that lies in it."""

    meter: str
    tiers: tuple[Tier, ...]
    included: Decimal = ZERO
    kind: Literal["usage"] = "usage"
    model: Literal["graduated"] = "graduated"


@dataclass(frozen=True, slots=True, kw_only=True)
class Volume:
    """The tier that holds the quantity prices all of it."""

    meter: str
    tiers: tuple[Tier, ...]
    included: Decimal = ZERO
    kind: Literal["usage"] = "usage"
    model: Literal["volume"] = "volume"


@dataclass(frozen=True, slots=True, kw_only=True)
class Blocks:
    """Every block begun costs `amount`."""

    meter: str
    block: Decimal
    amount: Decimal
    included: Decimal = ZERO
    kind: Literal["usage"] = "usage"
    model: Literal["blocks"] = "blocks"


UsagePrice = PerUnit | Graduated | Volume | Blocks
Price = Setup | Fee | UsagePrice


@dataclass(frozen=True, slots=True)
class Slice:
    """One step of a usage line, exact: `quantity` units at `unit`, plus `flat`."""

    quantity: Decimal
    unit: Decimal
    flat: Decimal
    amount: Decimal


def check(price: Price, where: str = "") -> None:
    """Raise `Invalid`, naming the field, for a price that cannot be computed."""
    at = f"{where}." if where else ""
    if isinstance(price, Blocks) and price.block <= 0:
        raise Invalid("must be above 0", f"{at}block")
    if isinstance(price, Setup | Fee | Blocks) and price.amount < 0:
        raise Invalid("must not be below 0", f"{at}amount")
    if isinstance(price, Setup | Fee):
        return
    if price.included < 0:
        raise Invalid("must not be below 0", f"{at}included")
    if isinstance(price, PerUnit) and price.unit < 0:
        raise Invalid("must not be below 0", f"{at}unit")
    if isinstance(price, Graduated | Volume):
        _check_tiers(price.tiers, f"{at}tiers")


def _check_tiers(tiers: tuple[Tier, ...], where: str) -> None:
    if not tiers:
        raise Invalid("needs at least one tier", where)
    below = ZERO
    for place, tier in enumerate(tiers):
        if tier.unit < 0 or tier.flat < 0:
            raise Invalid("must not be below 0", f"{where}[{place}].{'unit' if tier.unit < 0 else 'flat'}")
        last = place == len(tiers) - 1
        if (tier.up_to is None) != last:
            raise Invalid(
                "the last tier has no upper end" if last else "only the last tier may be without end",
                f"{where}[{place}].up_to",
            )
        if tier.up_to is not None:
            if tier.up_to <= below:
                raise Invalid("tiers must rise: each must end above the one before", f"{where}[{place}].up_to")
            below = tier.up_to


def slices(price: UsagePrice, quantity: Decimal) -> tuple[Slice, ...]:
    """What a priced quantity costs, step by step. Nothing for a quantity of 0."""
    if quantity <= 0:
        return ()
    if isinstance(price, PerUnit):
        return (_slice(quantity, price.unit, ZERO),)
    if isinstance(price, Blocks):
        begun = (EXACT.divide(quantity, price.block)).to_integral_value(ROUND_CEILING)
        return (_slice(begun, price.amount, ZERO),)
    if isinstance(price, Volume):
        tier = next(t for t in price.tiers if t.up_to is None or quantity <= t.up_to)
        return (_slice(quantity, tier.unit, tier.flat),)
    steps = []
    below = ZERO
    for tier in price.tiers:
        top = quantity if tier.up_to is None else min(quantity, tier.up_to)
        if top <= below:
            break
        steps.append(_slice(top - below, tier.unit, tier.flat))
        below = top
    return tuple(steps)


def cost(price: UsagePrice, quantity: Decimal) -> Decimal:
    """The exact cost of a priced quantity, before rounding."""
    return total(s.amount for s in slices(price, quantity))


def _slice(quantity: Decimal, unit: Decimal, flat: Decimal) -> Slice:
    return Slice(quantity, unit, flat, EXACT.add(EXACT.multiply(quantity, unit), flat))
