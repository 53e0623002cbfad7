"""What the payment processor knows and does: cards and what each does, charges and refunds once for each key, and what
it has to tell."""

from __future__ import annotations

import asyncio
import json
import secrets
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path

from pydantic import BaseModel, Field

from calm_tariff.standins.telling import Event, Teller

BRAND = "Sandbank Card"
# What each made-up card does, by its number: all are of an issuer that there is not (ISO/IEC 7812, 9).
CARDS: Mapping[str, tuple[str, str]] = {
    "9700 0000 0000 1002": ("pays", "It pays."),
    "9700 0000 0000 2000": ("no cover", "There is never cover."),
    "9700 0000 0000 3008": ("no cover twice", "There is no cover for the first two tries, then it pays."),
    "9700 0000 0000 4006": ("blocked", "It is blocked."),
    "9700 0000 0000 5003": ("slow", "It pays, and says so after some seconds."),
    "9700 0000 0000 6001": ("slow and refused", "It is refused, and says so after some seconds."),
}
SLOW_SECONDS = 3.0


class Mood(BaseModel):
    """How the processor behaves: away, it answers 503; `seconds` are how long an answer takes; it tells everything
    twice, or the last of what it has to tell first; it `loses` the answer to a charge after it was made."""

    away: bool = False
    seconds: float = Field(default=0, ge=0, le=30)
    twice: bool = False
    shuffled: bool = False
    loses: bool = False


@dataclass(slots=True)
class Kept:
    """A card that is kept, by its token, and how often it was tried."""

    token: str
    does: str
    last_four: str
    ends_on: str
    tried: int = 0


@dataclass(slots=True)
class Page:
    """A page at which a card is typed, where it leads back to, and the card that was."""

    page: str
    key: str
    back_to: str
    events_to: str
    card: str = ""


@dataclass(slots=True)
class Charge:
    """Money that was asked for, once for each key. States: pending, done, failed. What went back of it is `refunded`;
    `dispute` is one about it, and how that stands."""

    reference: str
    key: str
    card: str
    amount: str
    currency: str
    about: str
    events_to: str
    state: str = "pending"
    failure: str = ""
    refunded: str = "0"
    dispute: str = ""
    disputed: str = ""


@dataclass(slots=True)
class Refund:
    """Money that went back, once for each key."""

    reference: str
    key: str
    charge: str
    amount: str
    state: str = "done"
    failure: str = ""


@dataclass(slots=True)
class Everything:
    """All of it: pages by their name, cards by token, charges and refunds by key, and what is still to be told."""

    pages: dict[str, Page] = field(default_factory=dict)
    cards: dict[str, Kept] = field(default_factory=dict)
    charges: dict[str, Charge] = field(default_factory=dict)
    refunds: dict[str, Refund] = field(default_factory=dict)
    events: list[Event] = field(default_factory=list)


class Processing:
    """All that the processor knows, kept in a file, where one is named. It signs with its secret, and answers whoever
    has it. What nobody asked for is told at `events_to`."""

    def __init__(self, secret: str, file: Path | None = None, events_to: str = "") -> None:
        self.secret, self._file, self.events_to, self.mood = secret, file, events_to, Mood()
        self.all = Everything()
        self.teller = Teller(secret, lambda: self.all.events, self.keep)
        self.slow_seconds, self._waiting = SLOW_SECONDS, set[asyncio.Task[None]]()
        if file is not None and file.exists():
            said = json.loads(file.read_text(encoding="utf-8"))
            for name, kind in (("pages", Page), ("cards", Kept), ("charges", Charge), ("refunds", Refund)):
                setattr(self.all, name, {key: kind(**of) for key, of in said[name].items()})
            self.all.events = [Event(**of) for of in said["events"]]

    def keep(self) -> None:
        """Keep everything as it is now."""
        if self._file is None:
            return
        self._file.parent.mkdir(parents=True, exist_ok=True)
        beside = self._file.with_suffix(".new")
        beside.write_text(json.dumps(asdict(self.all)), encoding="utf-8")
        beside.replace(self._file)

    def say(self, to: str, kind: str, **of: str) -> None:
        """Have something told."""
        if to:
            body = json.dumps({"type": kind, "timestamp": datetime.now(UTC).isoformat(), "data": of})
            event = Event(f"said-{secrets.token_hex(12)}", to, body)
            self.all.events += [event, event] if self.mood.twice else [event]
            self.teller.more()
        self.keep()

    def settle(self, of: Charge) -> None:
        """Decide on a charge by what its card does."""
        kept = self.all.cards[of.card]
        failed = {
            "no cover": "no cover",
            "no cover twice": "no cover" if kept.tried <= 2 else "",
            "blocked": "blocked",
            "slow and refused": "refused",
        }.get(kept.does, "")
        of.state, of.failure = ("failed", failed) if failed else ("done", "")
        kind = "charge.failed" if failed else "charge.taken"
        self.say(of.events_to, kind, key=of.key, charge=of.reference, failure=failed)

    def later(self, of: Charge) -> None:
        """The same, after some seconds."""

        async def wait() -> None:
            await asyncio.sleep(self.slow_seconds)
            if of.state == "pending":
                self.settle(of)

        waiting = asyncio.create_task(wait())
        self._waiting.add(waiting)
        waiting.add_done_callback(self._waiting.discard)

    async def keep_telling(self) -> None:
        """Tell what is to be told, one after the other, until it is taken."""
        for charge in self.all.charges.values():
            if charge.state == "pending":
                self.later(charge)
        await self.teller.keep_telling(lambda: self.mood.shuffled)

    def signed(self, event: Event) -> dict[str, str]:
        """The fields of a webhook, signed now."""
        return self.teller.signed(event)
