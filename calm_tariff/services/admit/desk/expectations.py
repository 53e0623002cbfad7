"""The volume that a request expects: units of a month by meter, as whoever asked said."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.services.compose.products import meters_of
from calm_tariff.services.compose.sheet.estimates import MOST
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.compose.products import Product

NOTHING: Mapping[str, Decimal] = {}


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """So many units of a meter in a month; its name is what it was called when that was said."""

    key: str
    name: str
    units: Decimal


def checked(session: Session, product: Product, given: Mapping[str, Decimal]) -> list[Expected]:
    """What is expected of a product, in the order of its meters. Raises `Invalid`, naming the field."""
    known = {meter.key: meter.name for meter in meters_of(session, product)} if given else {}
    for key, units in given.items():
        if key not in known:
            raise Invalid(f"{key[:60]!r} is no meter of this product", "expected")
        if not units.is_finite() or not 0 <= units <= MOST:
            raise Invalid(f"must be between 0 and {MOST:,}", f"expected.{key}")
    return [Expected(key=key, name=name, units=given[key]) for key, name in known.items() if key in given]


def kept(one: Expected) -> dict[str, str]:
    """As it is stored."""
    return {"key": one.key, "name": one.name, "units": str(one.units)}


def of(request: AccessRequest) -> list[Expected]:
    """What a request expects."""
    stored: list[Any] = request.expected
    return [Expected(key=each["key"], name=each["name"], units=Decimal(each["units"])) for each in stored]
