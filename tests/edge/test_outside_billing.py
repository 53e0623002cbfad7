"""The adapter of whoever bills outside: what it makes of an answer that means nothing."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import nullcontext
from datetime import UTC, datetime
from typing import Any

import httpx
import pytest
from starlette.testclient import TestClient

from calm_tariff.core.errors import Away
from calm_tariff.edge.outside_billing import LONGEST, HttpOutsideBilling, outside_billing_of
from calm_tariff.services.base.outside_billing import SumOutside
from calm_tariff.settings import SettingInvalid, Settings, settings_now
from calm_tariff.web import create_app
from tests.office import Office

SECRET = "what outside billing and we sign with"
NOW = datetime(2026, 9, 10, 12, tzinfo=UTC)
Answers = Callable[[httpx.Request], httpx.Response]


def asked(answer: Answers) -> HttpOutsideBilling:
    client = httpx.Client(base_url="http://billing.example", transport=httpx.MockTransport(answer))
    return HttpOutsideBilling(lambda: nullcontext(client), key="our key", secret=SECRET)


def said(of: Any, status: int = 200) -> Answers:
    return lambda _: httpx.Response(status, json=of)


def broken(_: httpx.Request) -> httpx.Response:
    raise httpx.ConnectError("refused")


def test_what_is_handed_on_is_signed_and_has_its_key() -> None:
    heard: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        heard.append(request)
        return httpx.Response(200, json={"accepted": ["a"], "refused": [{"id": "b", "reason": "why"}]})

    taken = asked(answer).hand_on("usage-1", b"[]", NOW)
    assert (taken.accepted, taken.refused) == ({"a"}, {"b": "why"})
    (request,) = heard
    assert (request.method, request.url.path, request.content) == ("POST", "/billing/usage", b"[]")
    assert request.headers["idempotency-key"] == request.headers["webhook-id"] == "usage-1"
    assert request.headers["authorization"] == "Bearer our key"
    assert request.headers["content-type"] == "application/cloudevents-batch+json"
    assert request.headers["webhook-signature"].startswith("v1,")


def test_sums_are_asked_for_by_instants_of_utc() -> None:
    def answer(request: httpx.Request) -> httpx.Response:
        assert request.url.params["since"] == "2026-09-10T12:00:00Z"
        return httpx.Response(200, json=[{"subscription": 7, "meter": "mb", "units": "1.5"}])

    (only,) = asked(answer).sums(NOW, NOW)
    assert isinstance(only, SumOutside) and (only.subscription_id, only.meter, str(only.units)) == (7, "mb", "1.5")


@pytest.mark.parametrize(
    ("answer", "words"),
    [
        (said({"accepted": 1}), "means nothing: outside billing.accepted: must be a list"),
        (said([]), "means nothing"),
        (said({}, 500), "answered 500"),
        (said({}, 301), "answered 301"),
        (lambda _: httpx.Response(200, content=b"<html>"), "what is no JSON"),
        (lambda _: httpx.Response(200, content=b"1" * (LONGEST + 1)), "more than is taken"),
        (broken, "cannot be reached"),
    ],
)
def test_an_answer_that_means_nothing_is_none(answer: Answers, words: str) -> None:
    with pytest.raises(Away, match=words):
        asked(answer).hand_on("usage-1", b"[]", NOW)


def test_one_is_connected_by_an_address_and_a_secret_that_is_long_enough(monkeypatch: pytest.MonkeyPatch) -> None:
    assert outside_billing_of(Settings()) is None
    connected = Settings(outside_billing="https://billing.example", outside_billing_secret=SECRET)
    assert outside_billing_of(connected) is not None
    assert outside_billing_of(Settings(standins=True, outside_billing_secret=SECRET)) is not None
    monkeypatch.setenv("CALM_OUTSIDE_BILLING", "https://billing.example")
    monkeypatch.setenv("CALM_OUTSIDE_BILLING_SECRET", "short")
    with pytest.raises(SettingInvalid, match="32 characters"):
        settings_now()


def test_where_none_is_connected_nobody_says_anything(office: Office) -> None:
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    assert web.post("/api/v1/outside-billing/events", json={}).status_code == 401
