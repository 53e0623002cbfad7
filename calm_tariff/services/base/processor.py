"""A payment processor, as it is asked: it keeps cards, takes money from them and gives it back, and says what happens.

Whoever adapts a real one writes a `Processor` (docs/collecting.md). Whatever is asked with a `key` is done once,
however often it is asked: asked again, the answer is how it stands.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal
from typing import Literal, Protocol

from calm_tariff.core.billing.accounts.cards import Card, Failure


@dataclass(frozen=True, slots=True, kw_only=True)
class PageOpened:
    """A page of the processor's at which a card is given: what it is known by, and where it is."""

    page: str
    address: str


@dataclass(frozen=True, slots=True, kw_only=True)
class KeptCard:
    """A card that the processor keeps: the token by which it is charged, and what may be said of it."""

    token: str
    card: Card


@dataclass(frozen=True, slots=True, kw_only=True)
class ChargeOrder:
    """So much is to be taken from a card; `about` stands on its owner's statement."""

    key: str
    token: str
    amount: Decimal
    currency: str
    about: str


@dataclass(frozen=True, slots=True, kw_only=True)
class RefundOrder:
    """So much of a charge is to go back to its card."""

    key: str
    charge: str
    amount: Decimal
    currency: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """How something stands that was asked for: under way, done, or failed and why. `reference` is what the processor
    knows it by, where it does."""

    state: Literal["under way", "done", "failed"]
    reference: str = ""
    failure: Failure | None = None


EventType = Literal[
    "card.kept",
    "charge.taken",
    "charge.failed",
    "refund.paid_out",
    "refund.failed",
    "dispute.opened",
    "dispute.won",
    "dispute.lost",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Happened:
    """Something that the processor says has happened, each with an id of its own. `page` is of a card that was kept,
    `key` of a charge or a refund that was asked for with it; a dispute has its `reference`, the `charge` that it is
    about, its amount and reason."""

    id: str
    type: EventType
    page: str = ""
    key: str = ""
    charge: str = ""
    failure: Failure | None = None
    reference: str = ""
    amount: Decimal = Decimal(0)
    reason: str = ""


class Processor(Protocol):
    """A payment processor. What asks raises `core.errors.Away` where it does not answer, or not as it must."""

    def open_page(self, key: str, back_to: str) -> PageOpened:
        """A page at which a card is given; it leads back to an address."""

    def card_of(self, page: str) -> KeptCard | None:
        """The card that was given at a page, if one was."""

    def forget(self, token: str) -> None:
        """Have a card kept no more."""

    def charge(self, order: ChargeOrder) -> Answer:
        """Take money from a card."""

    def refund(self, order: RefundOrder) -> Answer:
        """Have money go back to a card."""

    def happened(self, body: bytes, fields: Mapping[str, str], now: datetime) -> Happened:
        """What a webhook of the processor's says. Raises `NotSignedIn` where it is not, or not of late, the
        processor's, or `Invalid`."""
