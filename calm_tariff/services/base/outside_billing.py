"""Whoever bills outside, as it is told and asked: it takes hourly usage, knows customers and prices, and says by itself
what becomes of a customer.

Whoever adapts a real one writes an `OutsideBilling` (docs/handoff.md).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Literal, Protocol

WordKind = Literal["customer.changed", "customer.unpaid", "customer.paid", "customer.ended"]


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownOutside:
    """A customer or a price that there is outside: what it is known by there, and its name."""

    id: str
    name: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Taken:
    """What became of a batch: the ids of events that were accepted, and why others were refused, by id. One that was
    accepted before is accepted again, and counts once."""

    accepted: frozenset[str]
    refused: Mapping[str, str]


@dataclass(frozen=True, slots=True, kw_only=True)
class SumOutside:
    """Units that the outside has of one meter of one subscription, in whichever hours were asked about."""

    subscription_id: int
    meter: str
    units: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class OutsideSaid:
    """Something that the outside says has become of a customer, each with an id of its own. One that has `changed` is
    known as `to` from now on, where that is any, and by another `name`; `about` is what one has not paid for."""

    id: str
    kind: WordKind
    customer: str
    at: datetime
    to: str = ""
    name: str = ""
    about: str = ""


class OutsideBilling(Protocol):
    """A system that bills outside. All of its methods that ask it raise `Away` where it does not answer as it must."""

    def customers(self) -> Sequence[KnownOutside]:
        """The customers it has."""

    def prices(self) -> Sequence[KnownOutside]:
        """The prices it has."""

    def hand_on(self, key: str, body: bytes, sent_at: datetime) -> Taken:
        """Have it take a batch of usage (CloudEvents 1.0, JSON), signed: once for each key, however often."""

    def sums(self, since: datetime, until: datetime) -> Sequence[SumOutside]:
        """What it has of the hours between two instants."""

    def happened(self, body: bytes, fields: Mapping[str, str], now: datetime) -> OutsideSaid:
        """What a webhook of its says. Raises `NotSignedIn` for what it did not sign, or not of late, and `Invalid` for
        what means nothing."""
