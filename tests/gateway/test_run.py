"""What a gateway does beside answering: it follows changes, and forgets what says nothing any more."""

from __future__ import annotations

import asyncio
import contextlib
import os
import socket
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from calm_tariff.gateway import run
from calm_tariff.gateway.app import now_us
from calm_tariff.gateway.recording.journal import Journal
from calm_tariff.gateway.tasks import Tasks
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import context_for
from calm_tariff.services.serve import instances
from calm_tariff.settings import Settings
from tests.office import Office
from tests.ports import free_port
from tests.processes import HERE, PATIENCE, awaited
from tests.servers import RunDatabase


@pytest.fixture
def running(database: RunDatabase, tmp_path: Path) -> Iterator[tuple[run._Running, Office]]:
    """A gateway's chores on an office of today, in this process; nothing is served."""
    lent = database.lend()
    office = Office.open(context_for(lent.engine, sealing_secret="one of this test's", reach=HERE))
    settings = Settings(database_url=lent.serving, var=tmp_path, value_secret="one of this test's")
    made = run._Running(settings)
    made.gateway.journal.start()
    yield made, office
    made.gateway.journal.stop()
    database.take_back(lent)


async def come(what) -> None:
    """Wait until something is so."""
    async with asyncio.timeout(PATIENCE):
        while not what():
            await asyncio.sleep(0.01)


async def says_yes(scope, receive, send) -> None:
    """An application that answers yes."""
    await send({"type": "http.response.start", "status": 200, "headers": []})
    await send({"type": "http.response.body", "body": b"yes"})


async def while_at(work, until) -> None:
    """Let a chore work until something is so."""
    task = asyncio.ensure_future(work())

    def seen() -> bool:
        assert not task.done() or task.exception() is None, task
        return until()

    try:
        await come(seen)
    finally:
        task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await task


def test_it_begins_with_what_is_and_follows_what_changes(running: tuple[run._Running, Office]) -> None:
    chores, office = running
    gateway = chores.gateway

    async def follows() -> None:
        await while_at(chores.follow, lambda: gateway.snapshot.number >= 0)
        assert chores.begun.is_set()
        before = gateway.snapshot.number
        await asyncio.to_thread(office.admit, "Anglers", "Ketch")
        await while_at(chores.follow, lambda: gateway.snapshot.number > before)
        assert gateway.snapshot.number == await asyncio.to_thread(stamps.number, office.ctx)

    awaited(follows())


def test_counts_of_terms_that_are_gone_and_of_addresses_long_silent_are_forgotten(
    running: tuple[run._Running, Office], monkeypatch: pytest.MonkeyPatch
) -> None:
    chores, _ = running
    chores.begin()
    monkeypatch.setattr(run, "SWEEP_SECONDS", 0.01)
    monkeypatch.setattr(run, "SWEPT_AT_ONCE", 1)
    counts = chores.gateway.counters.counts  # type: ignore[union-attr]
    stack = next(chores.gateway.snapshot.stacks(now_us()))
    rate = next(compiled for compiled in stack.compiled if compiled.limit.kind == "rate")
    now = now_us()
    kept = rate.take(None, now + 3600 * 1_000_000, 1)[0]  # it says something for an hour yet
    counts.update(
        {("of no terms", "1"): 5, (rate.scope, "silent"): rate.take(None, 1, 1)[0], (rate.scope, "own"): kept}
    )

    async def sweeps() -> None:
        await while_at(chores.sweep, lambda: len(counts) == 1)

    awaited(sweeps())
    assert list(counts) == [(rate.scope, "own")]


def test_a_fault_of_the_journal_is_looked_at_again_until_it_is_mended(
    running: tuple[run._Running, Office], monkeypatch: pytest.MonkeyPatch
) -> None:
    chores, _ = running
    journal = chores.gateway.journal
    monkeypatch.setattr(run, "SEGMENT_SECONDS", 0.01)
    broken = [OSError(28, "No space left on device")]

    def closing() -> None:
        if broken:
            raise broken[0]

    monkeypatch.setattr(Journal, "close_segment", lambda _: closing())

    async def looks() -> None:
        await while_at(chores.close_segments, lambda: journal.fault is not None)
        assert "No space left" in (journal.fault or "")
        broken.clear()
        await while_at(chores.close_segments, lambda: journal.fault is None)

    awaited(looks())


def test_a_port_that_is_taken_is_asked_for_again_until_it_is_free() -> None:
    async def told() -> None:
        tasks = Tasks(pause=0.01)
        with socket.create_server(("127.0.0.1", free_port())) as taken:
            port = taken.getsockname()[1]
            tasks.begin("metrics", lambda: run._beside(says_yes, port))
            await come(lambda: tasks.died["metrics"] > 1)
        async with httpx.AsyncClient() as client:

            async def answer() -> str:
                with contextlib.suppress(httpx.TransportError):
                    return (await client.get(f"http://127.0.0.1:{port}/")).text
                return ""

            async with asyncio.timeout(PATIENCE):
                while await answer() != "yes":
                    await asyncio.sleep(0.01)
        await tasks.end()

    awaited(told())


def test_it_says_how_it_is_once_it_has_begun(running: tuple[run._Running, Office]) -> None:
    chores, office = running
    chores.begin()
    awaited(chores.announce())
    (told,) = [one for one in instances.health(office.manager).instances if one.kind == "gateway"]
    assert told.name == chores.name and told.alive and told.behind == 0
    assert told.report["process"] == os.getpid() and told.report["counters"] == "in this gateway's memory"
    assert told.report["fault"] is None
