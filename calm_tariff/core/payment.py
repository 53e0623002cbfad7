"""How a consumer pays its invoices, and whether a plan can come to anything at all."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

from calm_tariff.core.errors import Invalid
from calm_tariff.core.prices import Blocks, Fee, PerUnit, Price, Setup
from calm_tariff.core.rating import Pricing

Method = Literal["transfer", "card"]
METHODS: tuple[Method, ...] = get_args(Method)
LONGEST_ORDER_NUMBER = 40


@dataclass(frozen=True, slots=True, kw_only=True)
class Payment:
    """How invoices are paid: by `transfer`, after each of them, or by `card`, on the day each is due. `order_number` is
    what the consumer's own books know the purchase by, and stands on each (the purchase order reference, BT-13, of EN
    16931); "" for none."""

    method: Method
    order_number: str = ""


def payment(method: str, order_number: str = "", field: str = "payment") -> Payment:
    """A payment method as somebody named it. Raises `Invalid`, naming the part of the field."""
    at = f"{field}." if field else ""
    number = " ".join(order_number.split())
    if len(number) > LONGEST_ORDER_NUMBER:
        raise Invalid(f"must be at most {LONGEST_ORDER_NUMBER} characters", f"{at}order_number")
    if not number.isprintable():
        raise Invalid("has a character that cannot be printed", f"{at}order_number")
    for each in METHODS:
        if each == method:
            return Payment(method=each, order_number=number)
    raise Invalid(f"must be one of {', '.join(METHODS)}", f"{at}method")


def charges(pricing: Pricing) -> bool:
    """Whether there is a use for which an invoice under these prices comes to more than nothing (docs/arithmetic.md,
    section 3: a discount, a minimum and a cap are for all but the setup price)."""
    setup = [price for price in pricing.prices if isinstance(price, Setup)]
    if any(_costs(price) for price in setup):
        return True
    if pricing.cap is not None and pricing.cap <= 0:
        return False
    rest = any(_costs(price) for price in pricing.prices if price not in setup)
    return bool(pricing.minimum) or (rest and pricing.discount_percent < 100)


def _costs(price: Price) -> bool:
    if isinstance(price, Setup | Fee | Blocks):
        return price.amount > 0
    if isinstance(price, PerUnit):
        return price.unit > 0
    return any(tier.unit > 0 or tier.flat > 0 for tier in price.tiers)
