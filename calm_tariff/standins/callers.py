"""The callers among the stand-ins: a demo's applications, which keep calling through the real gateway."""

from __future__ import annotations

import asyncio
import contextlib
from pathlib import Path
from random import Random

from aiohttp import ClientError, ClientSession, ClientTimeout

from calm_tariff.formats.callers import LiveCaller, read

# So many times as often as in the demo's past, and at every hour: whoever looks is to see something.
FASTER = 6.0
# Now and then so many calls come at once, which some plan does not let in together.
TOGETHER = 30
ONE_IN = 25
DAY_SECONDS = 86_400.0


async def keep_calling(file: Path, gateway: str, dice: Random) -> None:
    """Call for good, once the file says who calls; a gateway that is away is called again."""
    callers = await _known(file)
    often = [caller.daily for caller in callers]
    each_second = sum(often) * FASTER / DAY_SECONDS
    async with ClientSession(gateway, timeout=ClientTimeout(total=30)) as session, asyncio.TaskGroup() as calls:
        while True:
            await asyncio.sleep(dice.expovariate(each_second))
            (caller,) = dice.choices(callers, often)
            for _ in range(TOGETHER if dice.randrange(ONE_IN) == 0 else 1):
                calls.create_task(_call(session, caller, dice))


async def _known(file: Path) -> tuple[LiveCaller, ...]:
    """Who calls, as soon as that is written."""
    while not file.exists():
        await asyncio.sleep(1)
    return read(file.read_bytes())


async def _call(session: ClientSession, caller: LiveCaller, dice: Random) -> None:
    (asked,) = dice.choices(caller.asks, [one.weight for one in caller.asks])
    body: dict[str, str] | None = {} if asked.method == "POST" else None
    headers = {"X-API-Key": caller.key}
    with contextlib.suppress(ClientError, TimeoutError):
        async with session.request(asked.method, dice.choice(asked.paths), headers=headers, json=body) as answer:
            await answer.read()
