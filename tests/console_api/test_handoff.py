"""The handoff as a script works with it: mapping, what was sent, and what the outside says."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.console_api import app as console
from calm_tariff.services.house import service_tokens
from calm_tariff.settings import Settings
from calm_tariff.standins.telling import Event
from tests.office import Office
from tests.services.months import record
from tests.services.settle.documents.recorded import arrive
from tests.services.settle.handoff.outside import Outside, later


@pytest.fixture
def outside(office: Office) -> Outside:
    """Ferries' and Kayaks' calls of a product that is not billed outside yet."""
    record(office, 90)
    arrive(office, 5, 500, whose=1)
    later(office, hours=4)
    return Outside(office, since=None)


@pytest.fixture
def web(office: Office, outside: Outside) -> TestClient:
    """A script of finance's, at an installation with outside billing."""
    made = console.create_app(office.ctx, Settings())
    made.state.outside_billing = outside.asks
    token = service_tokens.make_for_machine(office.ctx, "script", "finance")
    return TestClient(made, base_url="http://127.0.0.1:8400", headers={"Authorization": f"Bearer {token}"})


def read(web: TestClient, path: str) -> Any:
    answer = web.get(path)
    assert answer.status_code == 200, answer.text
    return answer.json()


def test_from_saying_so_to_sums_that_agree(office: Office, outside: Outside, web: TestClient) -> None:
    assert read(web, "/handoff")["products"] == []
    began = web.post(f"/products/{office.product}/outside-billing", json={"since": "2026-09-01"})
    assert began.status_code == 201 and began.json()["subscriptions"] == 2
    outside.look()
    view = read(web, "/handoff")
    assert (view["connected"], view["waiting"], view["unmapped_consumers"], view["unmapped_plans"]) == (True, 3, 2, 1)
    known = read(web, "/handoff/outside")
    assert [each["id"] for each in known["customers"]] == ["C-1", "C-2"]
    rows = read(web, "/handoff/consumers")["rows"]
    assert [each["consumer"] for each in rows] == ["Ferries", "Kayaks"]
    first = f"/handoff/consumers/{rows[0]['consumer_id']}"
    assert web.put(first, json={"customer": "C-1"}, headers={"If-Match": '"0"'}).status_code == 204
    stale = web.put(first, json={"customer": "C-2"}, headers={"If-Match": '"0"'})
    assert stale.status_code == 412 and "it is C-1 now" in stale.json()["detail"]
    assert web.put(f"/handoff/plans/{office.plans['Ketch']}", json={"price": "P-1"}).status_code == 204
    outside.hand_on()
    (batch,) = read(web, "/handoff/batches")["rows"]
    assert (batch["accepted"], batch["refused"]) == (2, 0)
    events = read(web, f"/handoff/events?batch={batch['id']}&sort=hour")["rows"]
    assert [Decimal(each["units"]) for each in events] == [60, 30]
    sums = read(web, "/handoff/2026-09-01/sums?ask=true&sort=consumer")["rows"]
    of = ("accepted", "waiting", "outside")
    assert [[Decimal(each[name]) for name in of] for each in sums] == [[90, 0, 90], [0, 5, 0]]
    again = web.post(f"/handoff/batches/{batch['id']}/again")
    assert again.status_code == 202
    ended = web.post(f"/products/{office.product}/outside-billing/end", json={"until": "2026-10-01"})
    assert ended.json()["until"] == "2026-10-01"


def test_what_was_refused_is_handed_on_again(office: Office, outside: Outside, web: TestClient) -> None:
    web.post(f"/products/{office.product}/outside-billing", json={"since": "2026-09-01"})
    outside.map(price="P-9")
    outside.hand_on()
    rows = read(web, "/handoff/events?state=refused")["rows"]
    assert [each["refused_why"] for each in rows] == ["there is no price P-9"] * 2
    outside.there.all.prices["P-9"] = "Late"
    assert web.post(f"/handoff/events/{rows[0]['id']}/again").json() == {"events": 1}
    assert web.post("/handoff/events/again").json() == {"events": 1}
    outside.hand_on()
    assert read(web, "/handoff")["accepted"] == 2


def test_what_the_outside_says_is_heard_with_its_signature_alone(
    office: Office, outside: Outside, web: TestClient
) -> None:
    outside.map()
    body = json.dumps(
        {
            "type": "customer.unpaid",
            "timestamp": office.clock.now.isoformat(),
            "data": {"customer": "C-1", "about": "B1"},
        }
    )
    signed = outside.there.signed(Event("word-1", "", body))
    stranger = {name: value for name, value in signed.items() if name != "webhook-signature"}
    assert web.post("/outside-billing/events", content=body, headers=stranger).status_code == 401
    for _ in range(2):
        assert web.post("/outside-billing/events", content=body, headers=signed).status_code == 204
    (word,) = read(web, "/handoff/words")["rows"]
    assert (word["consumer"], word["done"]) == ("Ferries", True)


def test_one_that_is_away_is_said_so(outside: Outside, web: TestClient) -> None:
    outside.be(away=True)
    answer = web.get("/handoff/outside")
    assert answer.status_code in (502, 503) and "answered 503" in answer.json()["detail"]
