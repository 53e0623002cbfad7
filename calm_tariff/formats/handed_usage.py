"""Hourly usage as it is handed on: CloudEvents 1.0 in JSON batches (application/cloudevents-batch+json)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal

import orjson

from calm_tariff.core.billing.handoff import UsageHour, event_id
from calm_tariff.core.periods import HOUR, moment_of

MEDIA_TYPE = "application/cloudevents-batch+json"
SOURCE = "urn:calm-tariff:metered-usage"
TYPE = "metered.usage.hour"


@dataclass(frozen=True, slots=True, kw_only=True)
class HandedHour:
    """What is told of an hour: the key of its meter, the customer and the price that it goes to, and its units, or by
    how many more or fewer they are with this revision."""

    of: UsageHour
    revision: int
    meter: str
    customer: str
    price: str
    units: Decimal
    trial: bool


def batch(hours: Iterable[HandedHour]) -> bytes:
    """Events of a batch, in their order: the same bytes for the same hours."""
    return orjson.dumps([_event(each) for each in hours])


def _event(of: HandedHour) -> dict[str, object]:
    begin, end = of.of.hour_us, of.of.hour_us + HOUR
    return {
        "specversion": "1.0",
        "id": event_id(of.of, of.revision),
        "source": SOURCE,
        "type": TYPE,
        "subject": f"subscriptions/{of.of.subscription_id}",
        "time": _said(moment_of(end)),
        "datacontenttype": "application/json",
        "data": {
            "hour_start": _said(moment_of(begin)),
            "hour_end": _said(moment_of(end)),
            "subscription": of.of.subscription_id,
            "customer": of.customer,
            "price": of.price,
            "meter": of.meter,
            "units": f"{of.units.normalize():f}",
            "revision": of.revision,
            "trial": of.trial,
        },
    }


def _said(at: datetime) -> str:
    return f"{at.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"
