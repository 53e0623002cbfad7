"""Events on their way: an endpoint that fails and recovers gets each once in order, and a bad one holds up nobody."""

from __future__ import annotations

import json
import socket
import threading
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from threading import Thread

import httpx
import pytest
from standardwebhooks import Webhook

from calm_tariff.core.reach import Reach
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house import deliveries, endpoints, telling
from calm_tariff.services.house.endpoints import EndpointMade, EndpointTyped
from calm_tariff.settings import Settings
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.worker import endpoints as worker
from calm_tariff.worker.handlers import TRIES, handlers
from calm_tariff.worker.loop import Loop
from tests.office import Office


@dataclass
class Listener:
    """Takes webhooks, or answers as it is told to: each of `answers` once, the last one from then on."""

    url: str
    answers: list[tuple[int, str]] = field(default_factory=lambda: [(204, "")])
    got: list[tuple[dict[str, str], bytes]] = field(default_factory=list)

    @property
    def names(self) -> list[str]:
        return [json.loads(body)["data"]["subject"]["name"] for _, body in self.got]

    def answer(self) -> tuple[int, str]:
        return self.answers.pop(0) if len(self.answers) > 1 else self.answers[0]


@contextmanager
def listening() -> Iterator[Listener]:
    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            status, words = made.answer()
            fields = {name.lower(): value for name, value in self.headers.items()}
            made.got.append((fields, self.rfile.read(int(self.headers["content-length"]))))
            self.send_response(status)
            self.end_headers()
            self.wfile.write(words.encode())

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    Thread(target=server.serve_forever, daemon=True).start()
    made = Listener(f"http://127.0.0.1:{server.server_port}/hook")
    yield made
    server.shutdown()
    server.server_close()


@contextmanager
def endless() -> Iterator[str]:
    """The address of one who takes whatever comes, and never ends its answer."""
    over = threading.Event()

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            self.rfile.read(int(self.headers["content-length"]))
            self.send_response(200)
            self.end_headers()
            while not over.wait(0.05):
                try:
                    self.wfile.write(b".")
                except OSError:
                    return

        def log_message(self, *_: object) -> None:
            pass

    server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
    Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/"
    finally:
        over.set()
        server.shutdown()
        server.server_close()


@pytest.fixture
def listener() -> Iterator[Listener]:
    with listening() as made:
        yield made


@pytest.fixture
def own(office: Office) -> Context:
    made = office.ctx.acting(Actor("Tomas", frozenset({"operations"}), person_id=7))
    return replace(made, sealing_secret="the one that seals", reach=Reach(here=True))


def endpoint(ctx: Context, url: str, name: str = "Ledger") -> EndpointMade:
    return endpoints.make(ctx, EndpointTyped(name=name, url=url, wants=["key.*"]))


def happened(ctx: Context, *names: str) -> None:
    for name in names:
        with ctx.transaction() as session:
            auditing.note(session, ctx, "revoked a key", ("key", 1, name))


def test_one_that_fails_and_recovers_gets_each_event_once_in_order_and_signed(own: Context, listener: Listener) -> None:
    own = replace(own, clock=lambda: datetime.now(UTC))
    made = endpoint(own, listener.url)
    listener.answers = [(204, ""), (500, "the shelf is\nfull"), (503, ""), (204, "")]
    happened(own, "first", "second", "third")
    for why in ("answered 500: the shelf is full", "answered 503"):
        with pytest.raises(worker.NotTaken, match=why):
            worker.tell(own, made.endpoint.id)
    assert worker.tell(own, made.endpoint.id) is None
    assert listener.names == ["first", "second", "second", "second", "third"]
    ids = [fields["webhook-id"] for fields, _ in listener.got]
    assert len(set(ids)) == 3 and ids[1] == ids[2] == ids[3]
    for fields, body in listener.got:
        assert Webhook(made.secret).verify(body, fields)["type"] == "key.revoked"
    rows = deliveries.of(own, made.endpoint.id, PageQuery()).rows
    assert [(row.status, row.answer) for row in reversed(rows)] == [
        (204, ""),
        (500, "the shelf is full"),
        (503, ""),
        (204, ""),
        (204, ""),
    ]


def test_what_does_not_answer_or_is_not_there_is_told_as_such(
    own: Context, monkeypatch: pytest.MonkeyPatch, listener: Listener
) -> None:
    monkeypatch.setattr(worker, "PATIENCE", httpx.Timeout(0.3))
    with closing(socket.socket()) as silent:
        silent.bind(("127.0.0.1", 0))
        made = endpoint(own, f"http://127.0.0.1:{silent.getsockname()[1]}/")
        happened(own, "first")
        with pytest.raises(worker.NotTaken, match="cannot be reached"):
            worker.tell(own, made.endpoint.id)
        silent.listen()
        with pytest.raises(worker.NotTaken, match=r"did not answer within 0\.3 s"):
            worker.tell(own, made.endpoint.id)
    inside = replace(own, reach=Reach())  # what may not be asked is not, though it was when it was made
    with pytest.raises(worker.NotTaken, match="this machine itself"):
        worker.tell(inside, made.endpoint.id)
    assert listener.got == []


def test_an_answer_that_never_ends_holds_up_nothing(own: Context, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(worker, "PATIENCE", httpx.Timeout(0.5))
    with endless() as url:
        made = endpoint(own, url)
        happened(own, "first", "second")
        assert worker.tell(own, made.endpoint.id) is None
    assert {row.answer.strip(".") for row in deliveries.of(own, made.endpoint.id, PageQuery()).rows} == {""}


def test_an_answer_of_any_length_and_of_anything_is_kept_short_and_on_a_line(own: Context, listener: Listener) -> None:
    made = endpoint(own, listener.url)
    listener.answers = [(200, "é\x00\x1b[31m " * 5000)]
    happened(own, "first")
    worker.tell(own, made.endpoint.id)
    (row,) = deliveries.of(own, made.endpoint.id, PageQuery()).rows
    assert row.taken and len(row.answer) <= telling.LONGEST_ANSWER and row.answer.isprintable()


def test_a_turn_ends_so_that_others_come_in_between_and_the_rest_follows(
    own: Context, listener: Listener, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = endpoint(own, listener.url)
    happened(own, "first", "second")
    monkeypatch.setattr(worker, "TURN_SECONDS", 0.0)
    assert worker.tell(own, made.endpoint.id) == own.now and listener.names == ["first"]
    assert worker.tell(own, made.endpoint.id) == own.now and listener.names == ["first", "second"]
    assert worker.tell(own, made.endpoint.id) is None


def test_one_that_is_gone_is_asked_no_more_and_one_event_goes_again_when_asked_for(
    own: Context, listener: Listener
) -> None:
    made = endpoint(own, listener.url)
    listener.answers = [(204, ""), (410, ""), (204, "")]
    happened(own, "first", "second")
    assert worker.tell(own, made.endpoint.id) is None and not endpoints.one(own, made.endpoint.id).on
    assert worker.tell(own, made.endpoint.id) is None and listener.names == ["first", "second"]
    first = deliveries.of(own, made.endpoint.id, PageQuery()).rows[-1].event_id
    worker.tell_again(own, made.endpoint.id, first)
    assert listener.names == ["first", "second", "first"]
    listener.answers = [(500, "")]
    with pytest.raises(worker.NotTaken):
        worker.tell_again(own, made.endpoint.id, first)
    endpoints.take_away(own, made.endpoint.id)
    worker.tell_again(own, made.endpoint.id, first)
    assert len(listener.got) == 4


def test_a_worker_tells_the_good_ones_while_a_bad_one_is_tried_and_given_up(
    office: Office, own: Context, listener: Listener
) -> None:
    with listening() as bad:
        bad.answers = [(500, "never")]
        good_one, bad_one = endpoint(own, listener.url, "Good"), endpoint(own, bad.url, "Bad")
        made = [h for h in handlers(own, Settings()) if h.kind in (telling.SEND, "hand out what happened")]
        loop = Loop(own, made)
        jobs.schedule(own, ["hand out what happened"])
        seen = []
        for number in range(TRIES):
            happened(own, f"event {number}")
            seen.append(f"event {number}")
            office.clock.forward(hours=2)
            while (job := loop.take()) is not None:
                loop.do(job)
            assert listener.names == seen
        assert set(bad.names) == {"event 0"} and len(bad.got) == TRIES
        told = endpoints.one(own, bad_one.endpoint.id)
        assert told.gave_up and told.waiting == TRIES and told.next_at is None
        assert endpoints.one(own, good_one.endpoint.id).waiting == 0
        bad.answers, bad.got[:] = [(204, "")], []
        deliveries.go_on(own, bad_one.endpoint.id)
        while (job := loop.take()) is not None:
            loop.do(job)
        assert bad.names == seen and not endpoints.one(own, bad_one.endpoint.id).trouble
