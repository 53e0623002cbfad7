"""Outside billing among the stand-ins."""

from __future__ import annotations

import asyncio
import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import httpx
import pytest
from fastapi import FastAPI
from starlette.testclient import TestClient

from calm_tariff.standins import telling
from calm_tariff.standins.money import outside_billing
from calm_tariff.standins.money.billing_there import BillingMood, BillingThere
from calm_tariff.standins.telling import Event

SECRET = "a secret"
ASKED = {"Authorization": f"Bearer {SECRET}"}


@pytest.fixture
def of(tmp_path: Path) -> BillingThere:
    return BillingThere(SECRET, tmp_path / "billing.json", "http://here/events")


def served(of: BillingThere) -> TestClient:
    app = FastAPI()
    app.include_router(outside_billing.router(of))
    return TestClient(app)


def event(number: int = 1, **data: Any) -> dict[str, Any]:
    told = {"hour_start": f"2026-09-10T{number:02}:00:00Z", "subscription": 7, "customer": "HL-2041"}
    return {"id": f"e{number}", "data": {**told, "price": "tiles-small", "meter": "mb", "units": "1.5", **data}}


def sent(of: BillingThere, *events: dict[str, Any], key: str = "k1", by: str = SECRET, ago: int = 0) -> httpx.Response:
    body = json.dumps(events)
    at = datetime.now(UTC) - timedelta(minutes=ago)
    signed = BillingThere(by, clock=lambda: at).signed(Event(key, "", body))
    answer: httpx.Response = served(of).post(
        "/billing/usage", content=body, headers={**ASKED, **signed, "Idempotency-Key": key}
    )
    return answer


def test_usage_is_taken_once_for_each_key_and_each_event(of: BillingThere) -> None:
    first = sent(of, event(1), event(2)).json()
    assert first == {"accepted": ["e1", "e2"], "refused": []}
    assert sent(of, event(1), event(2)).json() == first
    assert sent(of, event(2), event(3), key="k2").json()["accepted"] == ["e2", "e3"]
    web = served(of)
    told = web.get("/billing/sums?since=2026-09-10T02:00:00Z&until=2026-09-10T03:00:00Z", headers=ASKED).json()
    assert told == [{"subscription": 7, "meter": "mb", "units": "1.5"}]
    assert len(web.get("/billing.json").json()["events"]) == 3
    assert "HL-2041 Ospreyview Drones" in web.get("/billing").text and "mb: 4.5" in web.get("/billing").text


def test_what_it_does_not_know_it_refuses_and_says_why(of: BillingThere) -> None:
    answer = sent(of, event(1, customer="HL-9"), event(2, price="none"), event(3)).json()
    assert answer["accepted"] == ["e3"]
    assert [each["reason"] for each in answer["refused"]] == ["there is no customer HL-9", "there is no price none"]
    served(of).post("/billing/customers", data={"customer": "HL-9", "name": "A new one"})
    assert sent(of, event(1, customer="HL-9"), key="k2").json()["accepted"] == ["e1"]


def test_what_is_not_signed_or_long_ago_or_asked_without_a_key_is_turned_away(of: BillingThere) -> None:
    assert sent(of, event(), by="another").status_code == 401
    assert sent(of, event(), ago=20).status_code == 401
    assert sent(of, event()).status_code == 200
    web = served(of)
    assert web.get("/billing/customers").status_code == 401
    assert "tiles-small" in {each["id"] for each in web.get("/billing/prices", headers=ASKED).json()}
    assert web.post("/billing/customers/HL-9", data={"word": "paid"}).status_code == 404


def test_how_it_behaves_is_set(of: BillingThere) -> None:
    web = served(of)
    web.put("/billing-mood", json=BillingMood(away=True).model_dump())
    assert sent(of, event()).status_code == 503
    web.put("/billing-mood", json=BillingMood(at_most=1).model_dump())
    assert sent(of, event(1), event(2)).status_code == 413
    web.put("/billing-mood", json=BillingMood(loses=True, seconds=0.01).model_dump())
    assert sent(of, event()).status_code == 504 and len(of.all.events) == 1
    web.put("/billing-mood", json=BillingMood().model_dump())
    assert sent(of, event()).json()["accepted"] == ["e1"] and len(of.all.events) == 1


def test_it_knows_everything_again_after_a_restart(of: BillingThere, tmp_path: Path) -> None:
    sent(of, event())
    served(of).post("/billing/customers/HL-2041", data={"word": "unpaid"})
    again = BillingThere(SECRET, tmp_path / "billing.json")
    assert again.all == of.all and len(again.all.saying) == 1


def test_what_it_says_is_said_until_it_is_taken(of: BillingThere, monkeypatch: pytest.MonkeyPatch) -> None:
    heard: list[Any] = []

    def answer(request: httpx.Request) -> httpx.Response:
        heard.append(json.loads(request.content))
        return httpx.Response(500 if len(heard) == 1 else 204)

    real = httpx.AsyncClient
    monkeypatch.setattr(telling, "PAUSES", (0.01,))
    monkeypatch.setattr(
        telling.httpx, "AsyncClient", lambda **_: real(transport=httpx.MockTransport(answer), timeout=5)
    )
    of.mood = BillingMood(twice=True)
    web = served(of)
    for word in ("unpaid", "renumbered"):
        web.post("/billing/customers/HL-2041", data={"word": word})

    async def run() -> None:
        task = asyncio.create_task(of.keep_telling())
        while of.all.saying:
            await asyncio.sleep(0.01)
        task.cancel()

    asyncio.run(run())
    assert [each["type"] for each in heard] == [*["customer.unpaid"] * 3, *["customer.changed"] * 2]
    assert heard[0]["data"] == {"customer": "HL-2041", "about": "HB-4101"}
    assert heard[-1]["data"] == {"customer": "HL-2041", "to": "HL-2041-B", "name": "Ospreyview Drones"}
    assert "HL-2041-B" in web.get("/billing").text
