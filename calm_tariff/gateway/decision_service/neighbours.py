"""The other gateways' decision services, asked about calls that this gateway did not decide on."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from typing import Any

from aiohttp import ClientError, ClientSession, ClientTimeout

from calm_tariff.services.base.retrying import PASSING

PASSED_ON = "Calm-Passed-On"
PATIENCE = ClientTimeout(total=5)


@dataclass(slots=True)
class Neighbours:
    """Where the others are, as they report it, and what they let ask."""

    addresses: Callable[[], Awaitable[Sequence[str]]]
    session: ClientSession
    token: str

    async def tell(self, outcomes: list[dict[str, Any]]) -> tuple[list[dict[str, Any]], bool]:
        """Tell outcomes to every other gateway: what each said, and whether all that may know have answered."""
        try:
            addresses = await self.addresses()
        except PASSING:
            return [], False
        said = await asyncio.gather(*(self._tell(address, outcomes) for address in addresses))
        return [each for each in said if each is not None], None not in said

    async def _tell(self, address: str, outcomes: list[dict[str, Any]]) -> dict[str, Any] | None:
        headers = {"Calm-Proxy-Token": self.token, PASSED_ON: "1", "Content-Type": "application/json"}
        try:
            async with self.session.post(
                f"{address}/usage", json=outcomes, headers=headers, timeout=PATIENCE
            ) as answer:
                return await answer.json() if answer.status == 200 else None
        except (ClientError, OSError, TimeoutError):
            return None
