"""The other gateways, told what this one did not decide on: all that may know must have answered."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import pytest
from aiohttp import ClientSession, ClientTimeout, web
from sqlalchemy.exc import OperationalError

from calm_tariff.gateway.decision_service import neighbours
from calm_tariff.gateway.decision_service.neighbours import PASSED_ON, Neighbours
from tests.ports import free_port
from tests.processes import PATIENCE, awaited


@pytest.fixture(autouse=True)
def patient(monkeypatch: pytest.MonkeyPatch) -> None:
    """However long a busy machine takes over an answer."""
    monkeypatch.setattr(neighbours, "PATIENCE", ClientTimeout(total=PATIENCE))


OUTCOMES = [{"id": "01J", "status": 200}]


async def told(*answers: web.Response, away: bool = False) -> tuple[list[dict[str, Any]], bool, list[web.Request]]:
    """What neighbours that answer so say, and what they were asked."""
    asked: list[web.Request] = []
    left = list(answers)

    async def usage(request: web.Request) -> web.Response:
        assert await request.json() == OUTCOMES
        asked.append(request)
        return left[int(request.path.split("/")[1])]

    app = web.Application()
    app.router.add_post("/{n}/usage", usage)
    runner = web.AppRunner(app)
    await runner.setup()
    port = free_port()
    await web.TCPSite(runner, "127.0.0.1", port).start()

    async def addresses() -> Sequence[str]:
        there = [f"http://127.0.0.1:{port}/{n}" for n in range(len(answers))]
        return [*there, f"http://127.0.0.1:{free_port()}"] if away else there

    async with ClientSession() as session:
        said, all_answered = await Neighbours(addresses, session, "a proxy's token").tell(OUTCOMES)
    await runner.cleanup()
    return said, all_answered, asked


def test_each_is_asked_once_with_our_token_and_not_to_pass_it_on_again() -> None:
    first, second = {"recorded": 1}, {"recorded": 0}
    said, all_answered, asked = awaited(told(web.json_response(first), web.json_response(second)))
    assert said == [first, second] and all_answered
    assert [request.headers["Calm-Proxy-Token"] for request in asked] == ["a proxy's token"] * 2
    assert [request.headers[PASSED_ON] for request in asked] == ["1", "1"]


@pytest.mark.parametrize("status", [401, 500, 503])
def test_one_that_refuses_may_still_know(status: int) -> None:
    said, all_answered, _ = awaited(told(web.json_response({"recorded": 1}), web.Response(status=status)))
    assert said == [{"recorded": 1}] and not all_answered


def test_one_that_is_away_may_still_know() -> None:
    said, all_answered, _ = awaited(told(web.json_response({"recorded": 1}), away=True))
    assert said == [{"recorded": 1}] and not all_answered


def test_without_others_nobody_else_knows_and_without_the_database_nobody_can_tell() -> None:
    assert awaited(told())[:2] == ([], True)

    async def gone() -> Sequence[str]:
        raise OperationalError("select", {}, ConnectionError())

    async def ask() -> tuple[list[dict[str, Any]], bool]:
        async with ClientSession() as session:
            return await Neighbours(gone, session, "token").tell(OUTCOMES)

    assert awaited(ask()) == ([], False)
