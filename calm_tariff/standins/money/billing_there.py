"""What outside billing knows and does: its customers and prices, the usage it was told of, once for each event and for
each key, and what it says of its customers."""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable, Mapping
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path
from typing import Any

from pydantic import BaseModel, Field

from calm_tariff.standins.telling import Event, Teller

# Those whose usage it bills, in the demo: some of its customers, and what it charges.
CUSTOMERS = {
    "HL-2036": "Grebe Games Lda",
    "HL-2041": "Ospreyview Drones",
    "HL-2057": "Wrackline Research Institute",
    "HL-2068": "Rowan Regatta",
    "HL-2073": "Harbour Lamps",
    "HL-2079": "Skerry Maps",
}
PRICES = {
    "tiles-small": "Chart Tiles, small",
    "tiles-regular": "Chart Tiles, regular",
    "tiles-large": "Chart Tiles, large",
}


class BillingMood(BaseModel):
    """How it behaves: away, it answers 503; `seconds` are how long an answer takes; it `loses` the answer to a batch
    after it took it; it tells everything `twice`; it takes `at_most` so many events at a time, where that is not 0."""

    away: bool = False
    seconds: float = Field(default=0, ge=0, le=30)
    loses: bool = False
    twice: bool = False
    at_most: int = Field(default=0, ge=0)


@dataclass(slots=True)
class Counted:
    """An event that it accepted: the hour, whose it is, which price, and how many units it told of."""

    id: str
    hour: str
    subscription: int
    customer: str
    price: str
    meter: str
    units: str


@dataclass(slots=True)
class Ledger:
    """All of it: customers and prices with their names, events by id, answers by key, and what is still to be said."""

    customers: dict[str, str] = field(default_factory=lambda: dict(CUSTOMERS))
    prices: dict[str, str] = field(default_factory=lambda: dict(PRICES))
    standing: dict[str, str] = field(default_factory=dict)
    events: dict[str, Counted] = field(default_factory=dict)
    answers: dict[str, Any] = field(default_factory=dict)
    saying: list[Event] = field(default_factory=list)
    bills: int = 4100


class BillingThere:
    """All that it knows, kept in a file, where one is named. It signs with its secret, and believes what is signed with
    it, of late by its clock. What it says goes to an address."""

    def __init__(
        self,
        secret: str,
        file: Path | None = None,
        says_to: str = "",
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self.secret, self._file, self.says_to, self.mood = secret, file, says_to, BillingMood()
        self._clock = clock
        self.all = Ledger()
        self.teller = Teller(secret, lambda: self.all.saying, self.keep, clock)
        if file is not None and file.exists():
            said = json.loads(file.read_text(encoding="utf-8"))
            events = {key: Counted(**of) for key, of in said.pop("events").items()}
            saying = [Event(**of) for of in said.pop("saying")]
            self.all = Ledger(**said, events=events, saying=saying)

    def keep(self) -> None:
        """Keep everything as it is now."""
        if self._file is None:
            return
        self._file.parent.mkdir(parents=True, exist_ok=True)
        beside = self._file.with_suffix(".new")
        beside.write_text(json.dumps(asdict(self.all)), encoding="utf-8")
        beside.replace(self._file)

    def is_signed(self, body: bytes, fields: Mapping[str, str]) -> bool:
        """Whether a batch was signed with the secret, of late."""
        return self.teller.is_signed(body, fields)

    def take(self, key: str, events: list[dict[str, Any]]) -> Any:
        """Take a batch: for each key once, and for each event once."""
        if key in self.all.answers:
            return self.all.answers[key]
        accepted, refused = [], []
        for event in events:
            why = "" if event["id"] in self.all.events else self._wrong(event)
            if why:
                refused.append({"id": event["id"], "reason": why})
                continue
            accepted.append(event["id"])
            of = event["data"]
            counted = Counted(
                event["id"],
                of["hour_start"],
                of["subscription"],
                of["customer"],
                of["price"],
                of["meter"],
                of["units"],
            )
            self.all.events.setdefault(event["id"], counted)
        self.all.answers[key] = {"accepted": accepted, "refused": refused}
        self.keep()
        return self.all.answers[key]

    def _wrong(self, event: dict[str, Any]) -> str:
        of = event["data"]
        if of["customer"] not in self.all.customers:
            return f"there is no customer {of['customer']}"
        if of["price"] not in self.all.prices:
            return f"there is no price {of['price']}"
        return ""

    def sums(self, since: str, until: str) -> list[dict[str, Any]]:
        """Units by subscription and meter, of the hours that begin in [since, until)."""
        found: dict[tuple[int, str], Decimal] = {}
        for each in self.all.events.values():
            if since <= each.hour < until:
                key = each.subscription, each.meter
                found[key] = found.get(key, Decimal(0)) + Decimal(each.units)
        return [{"subscription": of, "meter": meter, "units": f"{u:f}"} for (of, meter), u in sorted(found.items())]

    def say(self, kind: str, customer: str, **of: str) -> None:
        """Have something said of a customer."""
        body = json.dumps({"type": kind, "timestamp": self._clock().isoformat(), "data": {"customer": customer, **of}})
        word = Event(f"word-{secrets.token_hex(12)}", self.says_to, body)
        if self.says_to:
            self.all.saying += [word, word] if self.mood.twice else [word]
        self.keep()
        self.teller.more()

    def signed(self, word: Event) -> dict[str, str]:
        """The fields of a webhook, signed now."""
        return self.teller.signed(word)

    async def keep_telling(self) -> None:
        """Say what is to be said, one after the other, until it is taken."""
        await self.teller.keep_telling()
