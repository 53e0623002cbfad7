"""The payment processor among the stand-ins."""

from __future__ import annotations

import asyncio
import json
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi import FastAPI
from starlette.testclient import TestClient

from calm_tariff.standins import telling
from calm_tariff.standins.money import processor
from calm_tariff.standins.money.processing import CARDS, Charge, Kept, Mood, Processing
from calm_tariff.standins.telling import Event

SECRET = "a secret"
ASKED = {"Authorization": f"Bearer {SECRET}"}


def served(of: Processing) -> TestClient:
    app = FastAPI()
    app.include_router(processor.router(of))
    return TestClient(app)


@pytest.fixture
def of(tmp_path: Path) -> Processing:
    return Processing(SECRET, tmp_path / "processor.json")


def given(of: Processing, does: str = "pays") -> str:
    """The token of a card that was given."""
    web = served(of)
    page = web.post("/processor/pages", json={"back_to": "http://here/"}, headers={**ASKED, "Idempotency-Key": "p"})
    number = next(number for number, (kind, _) in CARDS.items() if kind == does)
    form = {"number": number, "ends": "12/39", "code": "123"}
    assert web.post(page.json()["address"], data=form, follow_redirects=False).status_code == 303
    return str(web.get(f"/processor/pages/{page.json()['page']}", headers=ASKED).json()["card"]["token"])


def charge(of: Processing, key: str, **more: Any) -> Any:
    wanted = {"card": "", "amount": "10.00", "currency": "EUR", **more}
    return served(of).post("/processor/charges", json=wanted, headers={**ASKED, "Idempotency-Key": key})


@pytest.mark.parametrize("number", CARDS)
def test_every_card_that_it_names_is_taken(of: Processing, number: str) -> None:
    form = {"number": number.replace(" ", "-"), "ends": "01/40", "code": "000"}
    web = served(of)
    page = web.post("/processor/pages", json={"back_to": "http://here/"}, headers={**ASKED, "Idempotency-Key": "p"})
    assert web.post(page.json()["address"], data=form, follow_redirects=False).headers["location"] == "http://here/"


@pytest.mark.parametrize(
    ("form", "words"),
    [
        ({"number": "9700 0000 0000 1003"}, "look at its digits"),
        ({"number": "4000 0000 0000 0002"}, "takes the cards below, and no real ones"),
        ({"ends": "13/39"}, "a month such as"),
        ({"ends": "soon"}, "a month such as"),
        ({"ends": "01/20"}, "has expired"),
        ({"code": "12"}, "three digits"),
    ],
)
def test_a_card_that_is_not_right_is_not_kept(of: Processing, form: dict[str, str], words: str) -> None:
    web = served(of)
    page = web.post("/processor/pages", json={"back_to": "http://here/"}, headers={**ASKED, "Idempotency-Key": "p"})
    whole = {"number": next(iter(CARDS)), "ends": "12/39", "code": "123", **form}
    answer = web.post(page.json()["address"], data=whole)
    assert (answer.status_code, words in answer.text, of.all.cards) == (422, True, {})


def test_a_key_takes_money_once_and_for_one_thing_also_over_a_restart(of: Processing, tmp_path: Path) -> None:
    token = given(of)
    first = charge(of, "k1", card=token).json()
    assert (first["state"], charge(of, "k1", card=token).json()) == ("done", first)
    assert charge(of, "k1", card=token, amount="11.00").status_code == 409
    again = Processing(SECRET, tmp_path / "processor.json")
    assert charge(again, "k1", card=token).json() == first
    assert [c.amount for c in again.all.charges.values()] == ["10.00"]
    assert charge(again, "k2", card="card-none").json()["failure"] == "unknown card"


def test_who_has_another_key_is_told_nothing(of: Processing) -> None:
    assert served(of).post("/processor/charges", json={}).status_code == 401
    assert served(of).get("/processor/pages/page-1", headers={"Authorization": "Bearer other"}).status_code == 401


def test_what_a_card_does_goes_by_how_often_it_was_tried(of: Processing) -> None:
    token = given(of, "no cover twice")
    assert [charge(of, f"k{n}", card=token).json()["failure"] for n in range(3)] == ["no cover", "no cover", ""]


def test_no_more_goes_back_than_was_taken(of: Processing) -> None:
    taken = charge(of, "k1", card=given(of)).json()["reference"]

    def back(key: str, amount: str) -> str:
        wanted = {"charge": taken, "amount": amount, "currency": "EUR"}
        answer = served(of).post("/processor/refunds", json=wanted, headers={**ASKED, "Idempotency-Key": key})
        return str(answer.json()["state"])

    assert [back("r1", "6.00"), back("r1", "6.00"), back("r2", "5.00"), back("r3", "4.00")] == [
        "done",
        "done",
        "failed",
        "done",
    ]


def test_it_tells_everything_until_it_is_taken_twice_or_the_last_first_where_it_is_told_to(
    of: Processing, monkeypatch: pytest.MonkeyPatch
) -> None:
    heard: list[str] = []
    asked = [0]

    async def take(scope: Any, receive: Any, send: Any) -> None:
        said = json.loads((await receive())["body"])["data"]["n"]
        asked[0] += 1
        if asked[0] > 1:
            heard.append(said)
        await send({"type": "http.response.start", "status": 503 if asked[0] == 1 else 204, "headers": []})
        await send({"type": "http.response.body", "body": b""})

    client = httpx.AsyncClient(transport=httpx.ASGITransport(take))
    monkeypatch.setattr(telling.httpx, "AsyncClient", lambda **_: client)

    async def main() -> None:
        of.mood = Mood(twice=True)
        of.say("http://here/events", "x", n="first")
        of.mood = Mood(shuffled=True)
        of.say("http://here/events", "x", n="last")
        task = asyncio.create_task(of.keep_telling())
        while of.all.events:
            await asyncio.sleep(0.01)
        task.cancel()

    asyncio.run(main())
    assert heard == ["last", "first", "first"]


def test_what_was_under_way_when_it_ended_is_settled_after_a_restart(of: Processing, tmp_path: Path) -> None:
    of.all.cards["card-1"] = Kept("card-1", "slow", "5003", "2040-01-01")
    of.all.charges["k1"] = Charge("charge-1", "k1", "card-1", "10.00", "EUR", "INV-1", "http://here/events")
    of.keep()
    again = Processing(SECRET, tmp_path / "processor.json")
    again.slow_seconds = 0.01

    async def main() -> None:
        task = asyncio.create_task(again.keep_telling())
        while again.all.charges["k1"].state == "pending":
            await asyncio.sleep(0.01)
        task.cancel()

    asyncio.run(main())
    assert again.all.charges["k1"].state == "done"
    assert isinstance(again.all.events[0], Event)
