"""The stand-ins that are told things: what they keep, in order, and how they refuse when they are told to."""

from __future__ import annotations

import json
import smtplib
from pathlib import Path

import pytest
from starlette.testclient import TestClient

from calm_tariff.standins.app import create_app
from calm_tariff.standins.mailbox import Mailbox
from calm_tariff.standins.money.billing_there import BillingThere
from calm_tariff.standins.money.processing import Processing
from calm_tariff.standins.tickets import Desk
from tests.ports import free_port


@pytest.fixture
def standins(tmp_path: Path) -> TestClient:
    return TestClient(
        create_app(
            Mailbox(), Desk("a secret", tmp_path / "tickets.json"), Processing("a secret"), BillingThere("a secret")
        )
    )


def test_a_room_keeps_what_is_said_in_order_and_shows_it_as_words(standins: TestClient) -> None:
    for text in ("first", "<b>second</b>"):
        assert standins.post("/chat/rooms/office", json={"text": text}).status_code == 204
    assert standins.post("/chat/rooms/office", json={"text": ""}).status_code == 422
    assert [one["text"] for one in standins.get("/chat/rooms/office.json").json()] == ["first", "<b>second</b>"]
    page = standins.get("/chat/rooms/office").text
    assert "&lt;b&gt;second&lt;/b&gt;" in page and "<b>second" not in page
    assert standins.get("/chat/rooms/other.json").json() == []
    assert "Nobody has said anything yet." in standins.get("/chat/rooms/other").text


def test_a_listener_keeps_what_it_takes_and_what_it_refuses(standins: TestClient) -> None:
    fields = {"webhook-id": "evt_1", "webhook-timestamp": "1", "webhook-signature": "v1,x"}
    body = json.dumps({"type": "key.made"})
    assert standins.post("/listener", content=body, headers=fields).json() == {"taken": "evt_1"}
    assert standins.put("/listener/mood", json={"status": 503}).status_code == 200
    assert standins.post("/listener", content="no json <b>", headers={"webhook-id": "evt_2"}).status_code == 503
    assert standins.put("/listener/mood", json={"status": 99}).status_code == 422
    first, second = standins.get("/listener.json").json()
    assert (first["taken"], first["fields"], first["body"]) == (True, fields, body)
    assert (second["taken"], second["fields"]) == (False, {"webhook-id": "evt_2"})
    page = standins.get("/listener").text
    assert "evt_2: not taken" in page and "no json &lt;b&gt;" in page


def test_a_mailbox_that_is_full_is_refused_by_itself() -> None:
    mailbox, port = Mailbox(), free_port()
    mailbox.refuses = {"full@x.example"}
    controller = mailbox.listen(port)
    try:
        with smtplib.SMTP("127.0.0.1", port, local_hostname="localhost", timeout=30) as server:
            refused = server.sendmail("a@x.example", ["full@x.example", "ana@x.example"], "Subject: x\n\nHello.")
            assert refused["full@x.example"] == (552, b"the box is full")
            with pytest.raises(smtplib.SMTPRecipientsRefused):
                server.sendmail("a@x.example", ["full@x.example"], "Subject: x\n\nHello.")
    finally:
        controller.stop()
    assert [one["to"] for one in mailbox.letters()] == ["ana@x.example"]
