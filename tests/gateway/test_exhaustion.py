"""What strangers send fills neither memory nor disk, and holds no connection for long."""

from __future__ import annotations

import asyncio
import json
import socket
import time
from contextlib import closing
from pathlib import Path

import pytest
import uvicorn

from calm_tariff.core.errors import Conflict
from calm_tariff.edge import guard
from calm_tariff.edge.guard import Guard
from calm_tariff.edge.wire import Wire
from calm_tariff.formats.openapi_examples import TooLarge, example_of
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.counters import LocalCounters
from calm_tariff.gateway.journal import Journal
from calm_tariff.gateway.routing import Match, Router, is_odd
from calm_tariff.gateway.sampling import AT_ONCE, PER_SECOND, Sampling
from calm_tariff.gateway.snapshot import PLACES_KEPT, Snapshot
from calm_tariff.launch.children import free_port
from calm_tariff.services.compose import operations
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.store.compose.apis import ApiDocument
from tests.office import Office
from tests.processes import awaited

BASE = "/tides/v1"


# Paths


def test_paths_nobody_serves_are_not_kept_and_those_that_are_served_in_bounds(office: Office) -> None:
    snapshot = Snapshot(read_feed(office.ctx))
    for n in range(1000):
        assert snapshot.place("GET", f"/nothing/{n}/" + "x" * 30_000) is None
        assert snapshot.place("GET", f"{BASE}/stations/{n}/no/such" + "x" * 30_000) is None
        assert snapshot.place("PUT", f"{BASE}/stations/{n}").match.operation_id is None
        assert snapshot.place("GET", f"{BASE}/stations/" + "y" * 30_000 + str(n)) is not None
    assert len(snapshot._places) == 0
    most = 0
    for n in range(30_000):
        assert snapshot.place("GET", f"{BASE}/stations/{n:0900}") is not None
        most = max(most, len(snapshot._places))
    assert 1000 < most <= PLACES_KEPT / 900
    assert snapshot.place("GET", f"{BASE}/stations/x") is snapshot.place("GET", f"{BASE}/stations/x")


@pytest.mark.parametrize(
    ("path", "odd"),
    [
        ("/a/b", False),
        ("/a/%20b", False),
        ("/a/b.c", False),
        ("/a/%C3%A9", False),
        ("/a/;b", True),
        ("/a/..;/b", True),
        ("/a%3b", True),
        ("/a%3B", True),
        ("/a%253b", True),
        ("/a%3fb", True),
        ("/a%23", True),
        ("/a%25253fb", True),
        ("/a/%c0%ae", True),
        ("/a/%ff", True),
        ("/a/100%", False),
        ("/a%2525", False),
    ],
)
def test_a_path_is_odd_where_back_ends_differ_over_it(path: str, odd: bool) -> None:
    assert is_odd(path) is odd


def test_another_case_names_the_operations_a_lax_back_end_would_take_it_for() -> None:
    router = Router(
        [
            (1, "GET", "/s/{id}"),
            (2, "GET", "/s/admin"),
            (3, "POST", "/s/Admin"),
            (4, "GET", "/S/{id}/x"),
            (5, "GET", "/s/{id}/X"),
            (6, "GET", "/s/v{n}"),
        ]
    )
    cases: dict[tuple[str, str], Match] = {
        ("GET", "/s/one"): Match(1, ("GET",)),
        ("GET", "/s/admin"): Match(2, ("GET",)),
        ("GET", "/s/ADMIN"): Match(1, ("GET",), frozenset({2})),
        ("HEAD", "/s/%41dmin"): Match(None, ("POST",)),  # literal of another method
        ("POST", "/s/Admin"): Match(3, ("POST",)),
        ("GET", "/s/V7"): Match(1, ("GET",), frozenset({6})),
        ("GET", "/S/a/x"): Match(4, ("GET",), frozenset({5})),
        ("GET", "/s/a/X"): Match(5, ("GET",), frozenset({4})),
    }
    assert {asked: router.match(*asked) for asked in cases} == cases
    assert router.match("GET", "/S/one") is None


# Refusals of callers nobody knows


def test_a_flood_is_recorded_in_part_and_counted_whole() -> None:
    sampling = Sampling()
    taken = [sampling.takes(1000.0) for _ in range(AT_ONCE + 500)]
    assert taken == [True] * AT_ONCE + [False] * 500
    assert not sampling.takes(1000.0 + 0.9 / PER_SECOND)
    assert sampling.takes(1000.0 + 1.1 / PER_SECOND)
    assert sampling.left_out == 501
    assert sampling.told().startswith("501 refusals of unknown callers")
    assert sampling.told() == ""
    assert sampling.takes(2000.0)
    assert sampling.room == AT_ONCE - 1


def test_what_a_known_caller_does_is_always_recorded(office: Office, tmp_path: Path) -> None:
    gateway = Gateway(
        Journal(tmp_path),
        snapshot=Snapshot(read_feed(office.ctx)),
        counters=LocalCounters(),
        now=lambda: office.ctx.now_us,
    )
    gateway.journal.start()
    key = office.consumers[0].secret

    async def call(headers: list[tuple[bytes, bytes]], path: str) -> int:
        told: list[dict] = []

        async def send(message: dict) -> None:
            told.append(message)

        async def receive() -> dict:
            return {"type": "http.request", "body": b"", "more_body": False}

        scope = {
            "type": "http",
            "method": "GET",
            "raw_path": path.encode(),
            "headers": headers,
            "query_string": b"",
            "client": ("192.0.2.1", 1),
        }
        await gateway(scope, receive, send)
        return told[0]["status"]

    async def everything() -> list[int]:
        flood = [await call([(b"x-api-key", b"lt_live_wrong")], f"{BASE}/stations/{n}") for n in range(600)]
        return flood + [await call([(b"x-api-key", key.encode())], f"{BASE}/nothing/{n}") for n in range(300)]

    assert awaited(everything()) == [401] * 600 + [404] * 300
    gateway.journal.stop()
    rows = [json.loads(line) for file in tmp_path.glob("*") if file.is_file() for line in file.read_text().splitlines()]
    unknown = [r for r in rows if r["consumer_id"] is None]
    assert AT_ONCE <= len(unknown) < 300
    assert len(rows) - len(unknown) == 300
    assert gateway.sampling.left_out == 600 - len(unknown)
    assert gateway.tally.calls["refused", 401] == 600  # counted all


# Connections


class Server:
    """uvicorn with our connection, and an application, in this process."""

    def __init__(self, app, wire: type[Wire] = Wire) -> None:
        self.port = free_port()
        config = uvicorn.Config(
            app,
            host="127.0.0.1",
            port=self.port,
            http=wire,
            lifespan="off",
            log_config=None,
            access_log=False,
            timeout_keep_alive=60,
        )
        self.server = uvicorn.Server(config)
        self.task: asyncio.Task | None = None

    async def __aenter__(self) -> Server:
        self.task = asyncio.create_task(self.server.serve())
        while not self.server.started:
            await asyncio.sleep(0.01)
        return self

    async def __aexit__(self, *_: object) -> None:
        self.server.should_exit = self.server.force_exit = True
        assert self.task
        await self.task

    async def open(self, data: bytes = b"") -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        reader, writer = await asyncio.open_connection("127.0.0.1", self.port)
        writer.write(data)
        return reader, writer


async def hello(scope, receive, send) -> None:
    while (await receive()).get("more_body"):
        pass
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"2")]})
    await send({"type": "http.response.body", "body": b"ok"})


GET = b"GET / HTTP/1.1\r\nHost: here\r\n\r\n"


def test_connections_beyond_the_limit_are_told_so_and_closed() -> None:
    class Few(Wire):
        most_connections = 3

    async def run() -> None:
        async with Server(hello, Few) as server:
            kept = [await server.open(GET) for _ in range(3)]
            for reader, _ in kept:
                assert (await reader.readuntil(b"ok")).startswith(b"HTTP/1.1 200")
            more, _ = await server.open(GET)
            assert (await more.read()).startswith(b"HTTP/1.1 503 ")
            kept[0][1].close()
            while True:  # once it is seen to be gone, there is room
                reader, _ = await server.open(GET)
                first = await reader.readline()
                if first.startswith(b"HTTP/1.1 200"):
                    break

    awaited(run())


def test_a_refused_connection_ends_though_nobody_reads() -> None:
    class Short(Wire):
        drain_seconds = 0.3

    written = asyncio.Event()

    async def large(scope, receive, send) -> None:
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": b"x" * 20_000_000, "more_body": True})
        written.set()
        await asyncio.sleep(60)

    async def run() -> None:
        async with Server(large, Short) as server:
            with closing(socket.socket()) as deaf:
                deaf.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
                deaf.connect(("127.0.0.1", server.port))
                deaf.sendall(GET)
                await written.wait()
                deaf.sendall(b"this is no HTTP\r\n\r\n")
                while server.server.server_state.connections:
                    await asyncio.sleep(0.01)

    awaited(run())


def test_who_was_turned_away_may_lie_idle_only_shortly(monkeypatch: pytest.MonkeyPatch) -> None:
    from calm_tariff.edge import wire

    monkeypatch.setattr(wire, "IDLE_SECONDS", 0.2)

    async def app(scope, receive, send) -> None:
        wire.hurry(scope, scope["path"] == "/no")
        await hello(scope, receive, send)

    async def run() -> None:
        async with Server(app) as server:
            good, _ = await server.open(GET)
            bad, writer = await server.open(GET.replace(b" / ", b" /no "))
            await good.readuntil(b"ok")
            await bad.readuntil(b"ok")
            assert await bad.read() == b""  # closed
            assert len(server.server.server_state.connections) == 1  # the other is not
            back, writer = await server.open(GET.replace(b" / ", b" /no ") + GET)
            await back.readuntil(b"ok")
            await back.readuntil(b"ok")
            assert len(server.server.server_state.connections) == 2
            writer.close()

    awaited(run())


def test_the_web_process_gives_up_bodies_that_stop_and_answers_nobody_takes(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(guard, "SENDER_SECONDS", 0.2)
    monkeypatch.setattr(guard, "READER_SECONDS", 0.5)

    async def app(scope, receive, send) -> None:
        if scope["path"] == "/large":
            await send({"type": "http.response.start", "status": 200, "headers": []})
            for _ in range(400):
                await send({"type": "http.response.body", "body": b"x" * 100_000, "more_body": True})
        await hello(scope, receive, send)

    async def run() -> None:
        async with Server(Guard(app, frozenset({"here"}), {}, False)) as server:
            stopped, _ = await server.open(b"POST / HTTP/1.1\r\nHost: here\r\nContent-Length: 10\r\n\r\nhalf")
            assert (await stopped.read()).startswith(b"HTTP/1.1 408 ")
            with closing(socket.socket()) as deaf:
                deaf.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
                deaf.connect(("127.0.0.1", server.port))
                deaf.sendall(GET.replace(b" / ", b" /large "))
                while not server.server.server_state.connections:
                    await asyncio.sleep(0.01)
                while server.server.server_state.connections:
                    await asyncio.sleep(0.01)
            fine, _ = await server.open(GET)
            assert (await fine.readuntil(b"ok")).startswith(b"HTTP/1.1 200")

    awaited(run())


# Examples


def unfolding(width: int, depth: int) -> dict:
    """A document of a few lines whose example would have width^depth parts."""
    schemas = {
        f"S{n}": {
            "type": "object",
            "properties": {f"p{k}": {"$ref": f"#/components/schemas/S{n + 1}"} for k in range(width)},
        }
        for n in range(depth)
    }
    schemas[f"S{depth}"] = {"type": "string", "example": "x"}
    content = {"application/json": {"schema": {"$ref": "#/components/schemas/S0"}}}
    paths = {"/a": {"get": {"responses": {"200": {"description": "", "content": content}}}}}
    return {
        "openapi": "3.0.3",
        "info": {"title": "T", "version": "1"},
        "paths": paths,
        "components": {"schemas": schemas},
    }


def test_an_example_is_made_within_a_budget(office: Office) -> None:
    assert example_of(unfolding(3, 3), "GET", "/a")
    begun = time.process_time()
    for width, depth in ((8, 7), (200, 3), (2, 11 * 2)):
        with pytest.raises(TooLarge):
            example_of(unfolding(width, depth), "GET", "/a") or _raise()
    assert time.process_time() - begun < 10  # it unfolds for ever otherwise
    with office.ctx.transaction() as session:
        text = json.dumps(unfolding(8, 7)).replace('"/a"', '"/stations"')
        session.add(ApiDocument(api_version_id=office.api, name="x.json", text=text, imported_at=office.ctx.now))
    with pytest.raises(Conflict) as refused:
        operations.set_answers(office.manager, office.operations["GET /stations"], "example")
    assert "too large" in str(refused.value)


def _raise() -> None:
    raise TooLarge  # deeper than any example goes: nothing was found, and quickly


@pytest.mark.parametrize("kind", ["text/plain\r\nX: y", "no type", "text/plain; a=\u0007", "tëxt/plain"])
def test_a_media_type_that_is_none_makes_no_answer(kind: str) -> None:
    content = {kind: {"example": "x"}}
    document = {"paths": {"/a": {"get": {"responses": {"200": {"content": content}}}}}}
    assert example_of(document, "GET", "/a") is None
    content["text/plain; charset=utf-8"] = {"example": "fine"}
    found = example_of(document, "GET", "/a")
    assert found and (found.type, found.body) == ("text/plain; charset=utf-8", "fine")


def test_a_status_that_is_none_is_no_status() -> None:
    content = {"text/plain": {"example": "x"}}
    for status, code in (("2²", 200), ("2XX", 200), ("201", 201), ("default", 200)):
        found = example_of({"paths": {"/a": {"get": {"responses": {status: {"content": content}}}}}}, "GET", "/a")
        assert found and found.status == code
