"""How stand-ins say by themselves what happens: signed webhooks (Standard Webhooks), one after the other, each until it
is taken."""

from __future__ import annotations

import asyncio
import base64
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime

import httpx
from standardwebhooks import Webhook

PAUSES = (0.2, 0.5, 1, 2, 5, 10, 30)
# What was told of at once is looked at together, where the last of it goes first.
TOGETHER_SECONDS = 0.5


@dataclass(slots=True)
class Event:
    """Something that is still to be told, and where: it keeps its id however often it is sent."""

    id: str
    to: str
    body: str


class Teller:
    """Tells what waits, signed with a secret; once something was taken, or refused for good, it is `kept` so."""

    def __init__(
        self,
        secret: str,
        waiting: Callable[[], list[Event]],
        kept: Callable[[], None],
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self._secret, self._waiting, self._kept, self._clock = secret, waiting, kept, clock
        self._more = asyncio.Event()

    @property
    def webhook(self) -> Webhook:
        """What signs with the secret."""
        return Webhook(f"whsec_{base64.b64encode(self._secret.encode()).decode()}")

    def more(self) -> None:
        """There is more to tell."""
        self._more.set()

    def signed(self, event: Event) -> dict[str, str]:
        """The fields of a webhook, signed now."""
        now = self._clock()
        return {
            "content-type": "application/json",
            "webhook-id": event.id,
            "webhook-timestamp": str(int(now.timestamp())),
            "webhook-signature": self.webhook.sign(event.id, now, event.body),
        }

    def is_signed(self, body: bytes, fields: Mapping[str, str], oldest_seconds: int = 300) -> bool:
        """Whether something was signed with the secret, of late."""
        said = fields.get("webhook-timestamp", "")
        at = datetime.fromtimestamp(int(said) if said.isdigit() else 0, UTC)
        right = self.webhook.sign(fields.get("webhook-id", ""), at, body.decode())
        late = abs((self._clock() - at).total_seconds())
        return late < oldest_seconds and fields.get("webhook-signature", "") == right

    async def keep_telling(self, last_first: Callable[[], bool] = lambda: False) -> None:
        """Tell what is to be told, the first of it first, or the last."""
        tried = 0
        async with httpx.AsyncClient(timeout=5, trust_env=False) as client:
            while True:
                if not self._waiting():
                    self._more.clear()
                    await self._more.wait()
                if last_first():
                    await asyncio.sleep(TOGETHER_SECONDS)
                one = self._waiting()[-1 if last_first() else 0]
                try:
                    over = (await client.post(one.to, content=one.body, headers=self.signed(one))).status_code < 500
                except httpx.HTTPError:
                    over = False
                if over:
                    self._waiting().remove(one)
                    self._kept()
                    tried = 0
                else:
                    await asyncio.sleep(PAUSES[min(tried, len(PAUSES) - 1)])
                    tried += 1
