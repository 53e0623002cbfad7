"""Whoever bills outside, over HTTP: what hands usage on to it and asks it, and what it says by itself (Standard
Webhooks 1.0).

This is the adapter for the one among the stand-ins; docs/handoff.md says what another one has to do.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import UTC, datetime
from decimal import Decimal
from functools import partial
from typing import Any, TypeVar

import httpx

from calm_tariff.core.errors import Away, Invalid
from calm_tariff.core.names import plain
from calm_tariff.edge import reaching
from calm_tariff.formats.handed_usage import MEDIA_TYPE
from calm_tariff.formats.values import load, read
from calm_tariff.services.base import webhooks
from calm_tariff.services.base.outside_billing import (
    KnownOutside,
    OutsideBilling,
    OutsideSaid,
    SumOutside,
    Taken,
    WordKind,
)
from calm_tariff.settings import Settings

PATIENCE = httpx.Timeout(10)
EVENTS = "/api/v1/outside-billing/events"
# No answer of its needs more bytes.
LONGEST = 2_000_000
WHERE = "outside billing"
T = TypeVar("T")


@dataclass(frozen=True, slots=True, kw_only=True)
class _Known:
    known: tuple[KnownOutside, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Refused:
    id: str
    reason: str


@dataclass(frozen=True, slots=True, kw_only=True)
class _Took:
    accepted: tuple[str, ...]
    refused: tuple[_Refused, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class _Sum:
    subscription: int
    meter: str
    units: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class _Sums:
    sums: tuple[_Sum, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class _Word:
    type: WordKind
    timestamp: datetime
    data: _WordOf


@dataclass(frozen=True, slots=True, kw_only=True)
class _WordOf:
    customer: str
    to: str = ""
    name: str = ""
    about: str = ""


class HttpOutsideBilling:
    """Outside billing that is asked over HTTP, with its `key`; `clients` makes clients that are based at its address.
    What goes there and what it says is signed with the same `secret`. Implements `OutsideBilling`."""

    def __init__(self, clients: Callable[[], AbstractContextManager[httpx.Client]], *, key: str, secret: str) -> None:
        self._clients, self._key, self._secret = clients, key, webhooks.secret_of(secret)

    def customers(self) -> Sequence[KnownOutside]:
        """The customers it has."""
        return _read(_Known, {"known": self._asked("GET", "/customers")}).known

    def prices(self) -> Sequence[KnownOutside]:
        """The prices it has."""
        return _read(_Known, {"known": self._asked("GET", "/prices")}).known

    def hand_on(self, key: str, body: bytes, sent_at: datetime) -> Taken:
        """Have it take a batch."""
        signed = webhooks.signed(self._secret, key, sent_at, body.decode())
        fields = {**signed.fields, "content-type": MEDIA_TYPE, "idempotency-key": key}
        took = _read(_Took, self._asked("POST", "/usage", signed.body, fields))
        return Taken(accepted=frozenset(took.accepted), refused={each.id: each.reason for each in took.refused})

    def sums(self, since: datetime, until: datetime) -> Sequence[SumOutside]:
        """What it has of the hours between two instants."""
        bounds = ("since", since), ("until", until)
        span = "&".join(f"{name}={at.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}" for name, at in bounds)
        told = _read(_Sums, {"sums": self._asked("GET", f"/sums?{span}")}).sums
        return [SumOutside(subscription_id=each.subscription, meter=each.meter, units=each.units) for each in told]

    def happened(self, body: bytes, fields: Mapping[str, str], now: datetime) -> OutsideSaid:
        """What a webhook says."""
        word_id = webhooks.verified(self._secret, body, fields, now)
        said = read(_Word, load(body.decode("utf-8", "replace")))
        of = said.data
        if said.timestamp.tzinfo is None:
            raise Invalid("must say its offset from UTC", "timestamp")
        return OutsideSaid(
            id=word_id,
            kind=said.type,
            customer=plain(of.customer, "data.customer", 100),
            at=said.timestamp,
            to=plain(of.to, "data.to", 100) if of.to else "",
            name=plain(of.name, "data.name", 200) if of.name else "",
            about=plain(of.about, "data.about", 200) if of.about else "",
        )

    def _asked(self, method: str, path: str, body: bytes | None = None, fields: Mapping[str, str] | None = None) -> Any:
        head = {"Authorization": f"Bearer {self._key}", **(fields or {})}
        to = reaching.Question(method=method, path=f"/billing{path}", fields=head, body=body)
        return reaching.answer(self._clients, to, WHERE, LONGEST)


def _read(kind: type[T], said: Any) -> T:
    """What it answered. Raises `Away` where that means nothing."""
    try:
        return read(kind, said, WHERE)
    except Invalid as error:
        raise Away(f"answered what means nothing: {error}", WHERE) from None


def outside_billing_of(settings: Settings) -> OutsideBilling | None:
    """Whoever bills outside that an installation is connected to, if it is to any."""
    if not settings.outside_billing_address or not settings.outside_billing_secret:
        return None
    return HttpOutsideBilling(
        partial(reaching.client, settings.reach, base_url=settings.outside_billing_address, timeout=PATIENCE),
        key=settings.outside_billing_key or settings.outside_billing_secret,
        secret=settings.outside_billing_secret,
    )
