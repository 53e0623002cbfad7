"""The adapter of the payment processor: what it asks, and what it makes of an answer that means nothing."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import nullcontext
from decimal import Decimal
from typing import Any

import httpx
import pytest
from starlette.testclient import TestClient

from calm_tariff.core.errors import Away, Invalid
from calm_tariff.edge.processor import HttpProcessor, processor_of
from calm_tariff.services.base import webhooks
from calm_tariff.services.base.processor import Answer, ChargeOrder
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.office import Office

SECRET = "what the payment processor signs with"
ORDER = ChargeOrder(key="try-1", token="card/1", amount=Decimal("34.44"), currency="EUR", about="INV-1")
Answers = Callable[[httpx.Request], httpx.Response]


def asked(answer: Answers) -> HttpProcessor:
    client = httpx.Client(base_url="http://processor.example", transport=httpx.MockTransport(answer))
    return HttpProcessor(lambda: nullcontext(client), key="our key", secret=SECRET, events_to="http://here/events")


def said(**of: Any) -> Answers:
    return lambda request: httpx.Response(200, json=of)


def test_a_charge_is_asked_for_under_its_key() -> None:
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        return httpx.Response(200, json={"reference": "charge-1", "state": "failed", "failure": "no cover"})

    assert asked(answer).charge(ORDER) == Answer(state="failed", reference="charge-1", failure="no cover")
    (request,) = seen
    assert (request.method, request.url.path) == ("POST", "/processor/charges")
    assert request.headers["authorization"] == "Bearer our key" and request.headers["idempotency-key"] == "try-1"
    assert b'"34.44"' in request.content and b'"events_to":"http://here/events"' in request.content.replace(b" ", b"")


NOTHING: dict[str, Answers] = {
    "a failure": lambda _: httpx.Response(500, text="oh"),
    "another key": lambda _: httpx.Response(401),
    "a page": lambda _: httpx.Response(200, text="<html>"),
    "too much": lambda _: httpx.Response(200, content=b" " * 200_000),
    "a state that there is none": said(reference="charge-1", state="melted"),
    "no state": said(reference="charge-1"),
    "a list": lambda _: httpx.Response(200, json=[1]),
    "a redirect": lambda _: httpx.Response(302, headers={"location": "http://elsewhere.example"}),
}


@pytest.mark.parametrize("answer", NOTHING.values(), ids=NOTHING)
def test_an_answer_that_means_nothing_is_none(answer: Answers) -> None:
    with pytest.raises(Away) as refused:
        asked(answer).charge(ORDER)
    assert refused.value.where == "the payment processor"
    with pytest.raises((Away, Invalid)):
        asked(answer).card_of("page-1")


def test_who_cannot_be_reached_is_away() -> None:
    def broken(_: httpx.Request) -> httpx.Response:
        raise httpx.ConnectTimeout("slow")

    with pytest.raises(Away, match="cannot be reached"):
        asked(broken).charge(ORDER)


def test_names_cannot_leave_their_place_in_an_address() -> None:
    paths: list[bytes] = []

    def answer(request: httpx.Request) -> httpx.Response:
        paths.append(request.url.raw_path)
        return httpx.Response(204)

    asked(answer).forget("../charges?x")
    assert paths == [b"/processor/cards/..%2Fcharges%3Fx"]


def test_nobody_pays_by_card_where_no_processor_is_connected() -> None:
    assert processor_of(Settings()) is None
    assert processor_of(Settings(standins=True, payment_processor_secret=SECRET)) is not None
    with pytest.raises(ValueError, match="must have 32 characters or more"):
        Settings(payment_processor="https://processor.example", payment_processor_secret="short")


def test_events_come_in_by_the_console_with_a_signature_alone(office: Office) -> None:
    body = '{"type": "charge.taken", "timestamp": "", "data": {"key": "try-other"}}'
    signed = webhooks.signed(webhooks.secret_of(SECRET), "said-1", office.ctx.now, body)
    for settings, fields, status in (
        (Settings(), signed.fields, 401),
        (Settings(standins=True, payment_processor_secret=SECRET), {}, 401),
        (Settings(standins=True, payment_processor_secret=SECRET), signed.fields, 404),
    ):
        web = TestClient(create_app(office.ctx, settings), base_url="http://127.0.0.1:8400")
        answer = web.post("/api/v1/payment-processor/events", content=signed.body, headers=dict(fields))
        assert answer.status_code == status, answer.text
