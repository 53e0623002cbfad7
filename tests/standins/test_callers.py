"""A demo's callers: they wait for who they are, and call as it says, whatever becomes of the gateway."""

from __future__ import annotations

import asyncio
from collections import Counter
from pathlib import Path
from random import Random

import pytest
from aiohttp import web

from calm_tariff.formats.callers import Asked, LiveCaller, written
from calm_tariff.standins import callers
from tests.ports import free_port
from tests.processes import PATIENCE, awaited

OFTEN, SELDOM = "lt_live_often", "lt_live_seldom"
WHO = (
    LiveCaller(OFTEN, 9_000_000, (Asked("GET", ("/tides/a", "/tides/b"), 8), Asked("POST", ("/holds",), 2))),
    LiveCaller(SELDOM, 1_000_000, (Asked("GET", ("/tiles",), 1),)),
)


class Gateway:
    """Hears calls and answers, or breaks off."""

    def __init__(self) -> None:
        self.heard: list[tuple[str, str, str]] = []
        self.breaks = False
        self.port = free_port()

    async def __aenter__(self) -> Gateway:
        app = web.Application()
        app.router.add_route("*", "/{path:.*}", self.hear)
        self.runner = web.AppRunner(app)
        await self.runner.setup()
        await web.TCPSite(self.runner, "127.0.0.1", self.port).start()
        return self

    async def __aexit__(self, *_: object) -> None:
        await self.runner.cleanup()

    async def hear(self, request: web.Request) -> web.Response:
        self.heard.append((request.headers["X-API-Key"], request.method, request.path))
        if self.breaks:
            assert request.transport
            request.transport.abort()
        return web.Response()

    async def has_heard(self, count: int) -> list[tuple[str, str, str]]:
        async with asyncio.timeout(PATIENCE):
            while len(self.heard) < count:
                await asyncio.sleep(0.01)
        return self.heard

    def called(self, file: Path, dice: Random | None = None) -> asyncio.Task[None]:
        address = f"http://127.0.0.1:{self.port}"
        return asyncio.create_task(callers.keep_calling(file, address, dice or Random(7)))


@pytest.fixture
def file(tmp_path: Path) -> Path:
    return tmp_path / "callers.json"


def test_each_calls_with_its_key_what_it_asks_for_as_often_as_it_says(file: Path) -> None:
    file.write_bytes(written(WHO))

    async def heard() -> list[tuple[str, str, str]]:
        async with Gateway() as gateway:
            task = gateway.called(file)
            found = list(await gateway.has_heard(800))
            task.cancel()
            return found

    found = awaited(heard())
    assert {(method, path) for key, method, path in found if key == SELDOM} == {("GET", "/tiles")}
    often = Counter((method, path) for key, method, path in found if key == OFTEN)
    assert set(often) == {("GET", "/tides/a"), ("GET", "/tides/b"), ("POST", "/holds")}
    assert often["POST", "/holds"] < often["GET", "/tides/a"] + often["GET", "/tides/b"]
    assert sum(often.values()) > len(found) / 2


class OneEvent(Random):
    """Comes to one moment at which somebody calls, and to no other."""

    moments = 0

    def expovariate(self, lambd: float = 1.0) -> float:
        self.moments += 1
        return 0.0 if self.moments == 1 else 1e9


@pytest.mark.parametrize(("one_in", "calls"), [(1, callers.TOGETHER), (10**9, 1)])
def test_now_and_then_one_calls_many_times_at_once(
    file: Path, monkeypatch: pytest.MonkeyPatch, one_in: int, calls: int
) -> None:
    file.write_bytes(written(WHO))
    monkeypatch.setattr(callers, "ONE_IN", one_in)

    async def heard() -> list[tuple[str, str, str]]:
        async with Gateway() as gateway:
            dice = OneEvent(7)
            task = gateway.called(file, dice)
            await gateway.has_heard(calls)
            while dice.moments < 2:
                await asyncio.sleep(0.01)
            task.cancel()
            return gateway.heard

    found = awaited(heard())
    assert len(found) == calls
    assert len({key for key, _, _ in found}) == 1


def test_who_calls_is_waited_for_and_a_gateway_that_breaks_off_or_is_away_is_called_again(file: Path) -> None:
    async def through_it_all() -> None:
        gateway = Gateway()
        task = gateway.called(file)
        await asyncio.sleep(0)
        assert not task.done()
        file.write_bytes(written(WHO))
        async with gateway:
            await gateway.has_heard(5)
            gateway.breaks = True
            await gateway.has_heard(len(gateway.heard) + 20)
            gateway.breaks = False
            await gateway.has_heard(len(gateway.heard) + 20)
        assert not task.done()
        task.cancel()

    awaited(through_it_all())
