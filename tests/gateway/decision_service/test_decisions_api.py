"""The decision service over HTTP: what a reverse proxy is told, and what it may tell."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import httpx
import pytest

from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.decision_service import decisions_api
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.gateway.ends import PATH, Ends, ends
from tests.processes import awaited

__all__ = ["ends"]
TOKEN = {"Calm-Proxy-Token": "token"}
Ask = Callable[..., httpx.Response]


@pytest.fixture
def ask(ends: Ends) -> Ask:
    """Ask the service of a gateway in this process."""
    transport = httpx.ASGITransport(decisions_api.create_app(ends.decisions))

    async def asked(method: str, path: str, **more: Any) -> httpx.Response:
        async with httpx.AsyncClient(transport=transport, base_url="http://decides") as client:
            return await client.request(method, path, **more)

    return lambda method, path, headers=TOKEN, **more: awaited(asked(method, path, headers=headers, **more))


def authorized(ask: Ask, uri: str, method: str = "GET", **headers: str) -> httpx.Response:
    """A proxy's subrequest."""
    of = {"X-Original-Method": method, "X-Original-Uri": uri, "Calm-Outcome": "told"}
    return ask("GET", "/authorize", headers={**TOKEN, **of, **{k.replace("_", "-"): v for k, v in headers.items()}})


def test_nobody_without_the_proxies_secret_is_told_or_believed_anything(ends: Ends, ask: Ask) -> None:
    call = {"method": "GET", "uri": PATH, "headers": {"X-API-Key": ends.key}}
    for wrong in ({}, {"Calm-Proxy-Token": "tokem"}, {"Calm-Proxy-Token": "tökén".encode()}):
        assert ask("POST", "/decisions", json=call, headers=wrong).status_code in (401, 422)
        assert ask("POST", "/usage", json=[], headers=wrong).status_code in (401, 422)
        original = {"X-Original-Method": "GET", "X-Original-Uri": PATH}
        assert ask("GET", "/authorize", headers={**wrong, **original}).status_code in (401, 422)
    assert not ends.gateway.tally.calls


def test_a_call_that_is_let_through_says_what_to_ask_the_back_end_for(ends: Ends, ask: Ask) -> None:
    feed = read_feed(ends.office.ctx)
    in_query = {key: replace(rules, key_query="api_key") for key, rules in feed.products.items()}
    ends.gateway.snapshot = Snapshot(replace(feed, products=in_query))
    uri = f"{PATH}?near=a%20b&api_key={ends.key}&x"
    said = ask("POST", "/decisions", json={"method": "GET", "uri": uri, "headers": {}}).json()
    assert (said["status"], said["verdict"], said["wait_ms"], said["body"]) == (200, "served", 0, None)
    assert said["target"] == "/stations/lm-01?near=a%20b&x" and said["rest"] == "/stations/lm-01"
    assert "RateLimit" in {name.title().replace("Ratelimit", "RateLimit") for name in said["headers"]}
    assert said["to_back_end"] == {}  # its owner does not want it told
    assert ends.key not in str(said)
    through = authorized(ask, uri)
    assert through.status_code == 200 and through.headers["Calm-Target"] == said["target"]


def test_a_back_end_whose_owner_wants_it_is_told_who_calls_and_by_nobody_else(ends: Ends, ask: Ask) -> None:
    feed = read_feed(ends.office.ctx)
    passing = tuple(replace(r, forwarding=replace(r.forwarding, passes_caller=True)) for r in feed.routes)
    ends.gateway.snapshot = Snapshot(replace(feed, routes=passing))
    call = {"method": "GET", "uri": PATH, "headers": {"X-API-Key": ends.key, "Calm-Consumer": "Somebody else"}}
    assert ask("POST", "/decisions", json=call).json()["to_back_end"]["calm-consumer"] == "Ferries"
    through = authorized(ask, PATH, X_API_Key=ends.key, Calm_Consumer="Somebody else")
    assert through.headers["calm-consumer"] == "Ferries"


def test_a_refusal_comes_with_its_body_and_as_a_status_that_proxies_know(ends: Ends, ask: Ask) -> None:
    call = {"method": "GET", "uri": "/tides/v1/nothing", "headers": {"X-API-Key": ends.key}}
    said = ask("POST", "/decisions", json=call).json()
    assert (said["status"], said["verdict"], said["body"]["code"]) == (404, "refused", "operation-unknown")
    for uri, method, headers, status, told in (
        (PATH, "GET", {}, 401, "401"),
        ("/tides/v1/nothing", "GET", {"X_API_Key": ends.key}, 403, "404"),
        (PATH, "DELETE", {"X_API_Key": ends.key}, 403, "405"),
    ):
        refused = authorized(ask, uri, method, **headers)
        assert (refused.status_code, refused.headers["Calm-Status"]) == (status, told)
        assert refused.json()["status"] == int(told)
    while (answer := authorized(ask, PATH, X_API_Key=ends.key)).status_code == 200:
        pass
    assert answer.status_code == 429 and answer.json()["code"] == "limit-reached"
    assert int(answer.headers["Retry-After"]) >= 1


def test_an_outcome_is_recorded_once_and_what_is_not_known_is_said(ends: Ends, ask: Ask) -> None:
    call = {"method": "GET", "uri": PATH, "headers": {"X-API-Key": ends.key}}
    made = ask("POST", "/decisions", json=call).json()["id"]
    outcome = {"id": made, "status": 200, "bytes_out": 10}
    unknown = {"id": "0" * 26, "status": 200}
    assert ask("POST", "/usage", json=[outcome, unknown]).json() == {
        "recorded": 1,
        "repeated": [],
        "conflicting": [],
        "unknown": [unknown["id"]],
        "later": [],
    }
    assert ask("POST", "/usage", json=[outcome]).json()["repeated"] == [made]
    assert ask("POST", "/usage", json=[{**outcome, "status": 500}]).json()["conflicting"] == [made]


@pytest.mark.parametrize(
    "wrong",
    [
        {"uri": PATH, "headers": {}},
        {"method": "GET", "headers": {}},
        {"method": "G" * 21, "uri": PATH, "headers": {}},
        {"method": "GET", "uri": "/" + "x" * 8001, "headers": {}},
        {"method": "GET", "uri": PATH, "headers": {}, "outcome": "perhaps"},
    ],
)
def test_a_call_that_is_badly_told_is_refused_by_its_field_and_recorded_nowhere(ends: Ends, ask: Ask, wrong) -> None:
    refused = ask("POST", "/decisions", json=wrong)
    assert refused.status_code == 422 and refused.json()["detail"][0]["loc"][0] == "body"
    assert not ends.gateway.tally.calls
