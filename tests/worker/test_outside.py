"""Back ends are asked how they are: what is well, what is not, and that none holds up the others."""

from __future__ import annotations

import socket
from collections.abc import Iterator
from contextlib import closing
from dataclasses import replace
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread

import httpx
import pytest
from standardwebhooks import Webhook

from calm_tariff.services.base import webhooks
from calm_tariff.services.compose.apis import versions
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.observe import alerts
from calm_tariff.worker import outside
from tests.office import Office
from tests.ports import free_port
from tests.processes import PATIENCE
from tests.worker.test_endpoints import endless


@pytest.fixture
def back_end() -> Iterator[str]:
    """Answers with the status its path names."""

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(int(self.path.rsplit("/", 1)[1]))
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


def add(office: Office, name: str, url: str) -> int:
    typed = ApiTyped(name=name, version="v1", description="", base_path=f"/{name}/v1", back_end_url=url)
    return versions.create(office.manager, typed).id


def told(office: Office, version: int) -> tuple[bool, str]:
    (kept,) = versions.one(office.manager, version).health
    return kept.well, kept.answer


def test_each_is_told_by_what_it_answers_and_one_that_is_away_holds_up_no_other(
    office: Office, back_end: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(outside, "PATIENCE", httpx.Timeout(PATIENCE))
    away = add(office, "away", f"http://127.0.0.1:{free_port()}")
    versions = {status: add(office, f"s{status}", f"{back_end}/{status}") for status in ("200", "404", "500", "503")}
    outside.ask_back_ends(office.ctx)
    assert told(office, versions["200"]) == (True, "answered 200")
    assert told(office, versions["404"]) == (True, "answered 404")  # it is there; what it has is its own matter
    assert told(office, versions["500"]) == (False, "answered 500")
    assert told(office, versions["503"]) == (False, "answered 503")
    well, words = told(office, away)
    assert not well and words.startswith("cannot be reached")


def test_one_that_says_nothing_is_given_up_and_told_as_such(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(outside, "PATIENCE", httpx.Timeout(0.5))
    with closing(socket.socket()) as silent:
        silent.bind(("127.0.0.1", 0))
        silent.listen()
        version = add(office, "silent", f"http://127.0.0.1:{silent.getsockname()[1]}")
        outside.ask_back_ends(office.ctx)
    assert told(office, version) == (False, "did not answer within 3 s")


def test_a_webhook_that_is_not_taken_is_sent_again_with_the_same_id_and_one_not_wanted_is_not(office: Office) -> None:
    got: list[tuple[dict[str, str], bytes]] = []
    answers = [500, 204]

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            got.append((dict(self.headers), self.rfile.read(int(self.headers["content-length"]))))
            self.send_response(answers.pop(0))
            self.end_headers()

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    Thread(target=server.serve_forever, daemon=True).start()
    ctx = replace(office.ctx, clock=lambda: datetime.now(UTC))
    own = ctx.acting(office.consumers[0].member)
    made = alerts.set_hook(own, f"http://127.0.0.1:{server.server_port}/calm")
    body = webhooks.event("alert.reached", ctx.now, {"alert": 1})
    event = {"consumer": own.actor.consumer_id, "event": "alert-1-5", "body": body}
    with pytest.raises(httpx.HTTPStatusError):
        outside.send_webhook(ctx, event)
    outside.send_webhook(ctx, event)
    alerts.drop_hook(own)
    outside.send_webhook(ctx, event)
    server.shutdown()
    assert len(got) == 2 and {fields["webhook-id"] for fields, _ in got} == {"alert-1-5"}
    for fields, sent in got:
        assert Webhook(made.secret).verify(sent, fields)["data"] == {"alert": 1}


def test_a_consumers_hook_that_never_ends_its_answer_holds_up_nobodys(office: Office) -> None:
    own = office.ctx.acting(office.consumers[0].member)
    with endless() as url:
        alerts.set_hook(own, url)
        body = webhooks.event("alert.reached", own.now, {"alert": 1})
        outside.send_webhook(own, {"consumer": own.actor.consumer_id, "event": "alert-1-5", "body": body})
