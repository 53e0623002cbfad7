"""The payment processor over HTTP: what asks it, and what it says by itself (Standard Webhooks 1.0).

This is the adapter for the one among the stand-ins; docs/collecting.md says what another one has to do.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from functools import partial
from typing import Any, Literal
from urllib.parse import quote

import httpx

from calm_tariff.core.billing.accounts.cards import Card, failure
from calm_tariff.core.errors import Away, Invalid
from calm_tariff.edge import reaching
from calm_tariff.formats.values import load, read
from calm_tariff.services.base import webhooks
from calm_tariff.services.base.processor import (
    Answer,
    ChargeOrder,
    EventType,
    Happened,
    KeptCard,
    PageOpened,
    Processor,
    RefundOrder,
)
from calm_tariff.settings import Settings

PATIENCE = httpx.Timeout(10)
EVENTS = "/api/v1/payment-processor/events"
# No answer of its needs more bytes.
LONGEST = 100_000
WHERE = "the payment processor"


@dataclass(frozen=True, slots=True, kw_only=True)
class _Page:
    page: str
    address: str = ""
    card: _Card | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class _Card:
    token: str
    brand: str
    last_four: str
    ends_on: date


@dataclass(frozen=True, slots=True, kw_only=True)
class _Stands:
    """How a charge or a refund stands."""

    reference: str
    state: Literal["pending", "done", "failed"]
    failure: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Said:
    type: EventType
    timestamp: str
    data: _SaidOf


@dataclass(frozen=True, slots=True, kw_only=True)
class _SaidOf:
    page: str = ""
    key: str = ""
    charge: str = ""
    failure: str = ""
    dispute: str = ""
    amount: Decimal = Decimal(0)
    reason: str = ""


class HttpProcessor:
    """A processor that is asked over HTTP, with its `key`; `clients` makes clients that are based at its address. Its
    webhooks are signed with a secret, and go to `events_to`, where that is any. Implements `Processor`."""

    def __init__(
        self, clients: Callable[[], AbstractContextManager[httpx.Client]], *, key: str, secret: str, events_to: str = ""
    ) -> None:
        self._clients, self._key, self._secret, self._events_to = clients, key, secret, events_to

    def open_page(self, key: str, back_to: str) -> PageOpened:
        """A page at which a card is given."""
        given = read(_Page, self._asked("POST", "/pages", {"back_to": back_to}, key), WHERE)
        return PageOpened(page=given.page, address=given.address)

    def card_of(self, page: str) -> KeptCard | None:
        """The card that was given at a page."""
        given = read(_Page, self._asked("GET", f"/pages/{quote(page, safe='')}"), WHERE)
        if given.card is None:
            return None
        card = Card(brand=given.card.brand[:40], last_four=given.card.last_four[-4:], ends_on=given.card.ends_on)
        return KeptCard(token=given.card.token, card=card)

    def forget(self, token: str) -> None:
        """Have a card kept no more."""
        self._asked("DELETE", f"/cards/{quote(token, safe='')}")

    def charge(self, order: ChargeOrder) -> Answer:
        """Take money from a card."""
        of = {"card": order.token, "amount": str(order.amount), "currency": order.currency, "about": order.about}
        return _answer(self._asked("POST", "/charges", of, order.key))

    def refund(self, order: RefundOrder) -> Answer:
        """Have money go back to a card."""
        of = {"charge": order.charge, "amount": str(order.amount), "currency": order.currency}
        return _answer(self._asked("POST", "/refunds", of, order.key))

    def happened(self, body: bytes, fields: Mapping[str, str], now: datetime) -> Happened:
        """What a webhook says."""
        event_id = webhooks.verified(webhooks.secret_of(self._secret), body, fields, now)
        said = read(_Said, load(body.decode("utf-8", "replace")))
        of = said.data
        return Happened(
            id=event_id,
            type=said.type,
            page=of.page,
            key=of.key,
            charge=of.charge,
            failure=failure(of.failure) if of.failure else None,
            reference=of.dispute,
            amount=of.amount,
            reason=of.reason[:1000],
        )

    def _asked(self, method: str, path: str, of: Mapping[str, str] | None = None, key: str = "") -> Any:
        fields = {"Authorization": f"Bearer {self._key}"}
        if key:
            fields["Idempotency-Key"] = key
        body = None if of is None else {**of, "events_to": self._events_to}
        to = reaching.Question(method=method, path=f"/processor{path}", fields=fields, json=body)
        return reaching.answer(self._clients, to, WHERE, LONGEST)


def _answer(said: Any) -> Answer:
    try:
        stands = read(_Stands, said, WHERE)
    except Invalid as error:
        raise Away(f"answered what means nothing: {error}", WHERE) from None
    if stands.state == "failed":
        return Answer(state="failed", reference=stands.reference, failure=failure(stands.failure))
    return Answer(state="done" if stands.state == "done" else "under way", reference=stands.reference)


def processor_of(settings: Settings, *, hears: bool = True) -> Processor | None:
    """The processor that an installation is connected to, if it is to one. It `hears` by webhooks what becomes of what
    it asked for, or only by asking again."""
    if not settings.payment_processor_address or not settings.payment_processor_secret:
        return None
    return HttpProcessor(
        partial(reaching.client, settings.reach, base_url=settings.payment_processor_address, timeout=PATIENCE),
        key=settings.payment_processor_key or settings.payment_processor_secret,
        secret=settings.payment_processor_secret,
        events_to=f"{settings.address}{EVENTS}" if hears else "",
    )
