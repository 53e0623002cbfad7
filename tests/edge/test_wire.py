"""What strangers send holds no connection for long."""

from __future__ import annotations

import asyncio
import socket
from contextlib import closing

import pytest
import uvicorn

from calm_tariff.edge import guard, wire
from calm_tariff.edge.guard import Guard
from calm_tariff.edge.wire import Wire
from tests.ports import free_port
from tests.processes import awaited


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

    async def nobody(host: str) -> bool:
        return False

    async def run() -> None:
        async with Server(Guard(app, frozenset({"here"}), {}, False, nobody)) as server:
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
