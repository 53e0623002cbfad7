"""Each kind has room of its own, what fails is tried again, and nothing that happens in a job goes further."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from threading import Event, Thread
from typing import Any

import pytest
from sqlalchemy.exc import OperationalError

from calm_tariff.core.errors import Deadlocked
from calm_tariff.services.base import jobs, retrying
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.jobs import Job as Stored
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.worker import loop as loop_module
from calm_tariff.worker.handlers import Handler
from calm_tariff.worker.loop import Loop
from tests.office import Office
from tests.processes import wait_for


@pytest.fixture
def own(office: Office) -> Context:
    """An installation with nothing to do."""
    with office.ctx.transaction() as session:
        session.query(Stored).delete()
    return office.ctx


@pytest.fixture
def stop() -> Iterator[Event]:
    made = Event()
    yield made
    made.set()


def begun(loop: Loop, stop: Event) -> Thread:
    thread = Thread(target=loop.run, args=(stop,), daemon=True)
    thread.start()
    return thread


def ask(ctx: Context, kind: str, **arguments: Any) -> None:
    with ctx.transaction() as session:
        jobs.write(session, ctx, kind, f"{kind} for a test", arguments)


def test_a_kind_that_hangs_and_one_that_always_fails_hold_up_no_other(
    own: Context, office: Office, stop: Event
) -> None:
    free, told = Event(), []

    def fails(_: dict[str, Any]) -> None:
        raise RuntimeError("a line\nbreak and “odd” letters")

    loop = Loop(
        own,
        [
            Handler(kind="hang", do=lambda _: free.wait(60) and None),
            Handler(kind="fail", do=fails),
            Handler(kind="tell", do=lambda of: told.append(of["n"])),
        ],
    )
    ask(own, "hang")
    for n in range(20):
        ask(own, "fail")
        ask(own, "tell", n=n)
    thread = begun(loop, stop)
    wait_for(lambda: len(told) == 20 and loop.failed == 20)
    troubled = jobs.troubled(office.manager, PageQuery(rows=100)).rows
    assert [view.kind for view in troubled] == ["fail"] * 20
    assert troubled[0].last_error == "RuntimeError: a line\nbreak and “odd” letters"
    free.set()
    wait_for(lambda: loop.done == 21)
    stop.set()
    thread.join(60)
    assert not thread.is_alive()


def test_so_many_of_a_kind_are_done_at_once_and_no_more(own: Context, stop: Event) -> None:
    free, at_once = Event(), []
    busy: set[int] = set()

    def paint(of: dict[str, Any]) -> None:
        busy.add(of["n"])
        at_once.append(len(busy))
        free.wait(60)
        busy.discard(of["n"])

    loop = Loop(own, [Handler(kind="paint", do=paint, at_once=3), Handler(kind="tell", do=lambda _: None)])
    for n in range(9):
        ask(own, "paint", n=n)
    begun(loop, stop)
    wait_for(lambda: len(busy) == 3)
    ask(own, "tell")
    wait_for(lambda: loop.done == 1)  # there is room for others
    assert len(busy) == 3
    free.set()
    wait_for(lambda: loop.done == 10)
    assert max(at_once) == 3


def test_what_the_schedule_has_done_is_done_again_after_its_time(own: Context, office: Office, stop: Event) -> None:
    done: list[int] = []
    every = timedelta(minutes=10)
    loop = Loop(own, [Handler(kind="tidy", do=lambda _: done.append(1), every=every, tries=None)])
    begun(loop, stop)
    wait_for(lambda: loop.done == 1)
    office.clock.forward(minutes=9)
    ask(own, "other")  # no kind of this worker's
    assert loop.take() is None
    office.clock.forward(minutes=1)
    wait_for(lambda: loop.done == 2)


def test_a_handler_says_when_its_job_is_to_be_done_again(own: Context, office: Office) -> None:
    asked: list[int] = []
    answers = iter([own.now + timedelta(hours=1), None])
    loop = Loop(own, [Handler(kind="ask", do=lambda _: asked.append(1) or next(answers))])
    ask(own, "ask")
    for _ in range(2):
        job = loop.take()
        assert job is not None
        loop.do(job)
        assert loop.take() is None
        office.clock.forward(hours=1)
    assert len(asked) == 2 and loop.take() is None


def test_after_its_tries_a_job_is_left_to_a_person(own: Context, office: Office) -> None:
    def fails(_: dict[str, Any]) -> None:
        raise OSError("away")

    loop = Loop(own, [Handler(kind="ask", do=fails, tries=3)])
    ask(own, "ask")
    for _ in range(3):
        office.clock.forward(minutes=1)
        job = loop.take()
        assert job is not None
        loop.do(job)
    office.clock.forward(days=1)
    assert loop.take() is None
    [view] = jobs.troubled(office.manager, PageQuery()).rows
    assert (view.given_up, view.attempts) == (True, 3)


def test_a_deadlock_is_no_failure_of_the_job_that_met_it(
    own: Context, office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    met: list[int] = []

    def paints(_: dict[str, Any]) -> None:
        met.append(1)
        if len(met) < 3:
            raise Deadlocked("somebody was in the way")

    loop = Loop(own, [Handler(kind="paint", do=paints)])
    ask(own, "paint")
    job = loop.take()
    assert job is not None
    loop.do(job)
    assert (len(met), loop.done, loop.failed) == (3, 1, 0)
    assert jobs.troubled(office.manager, PageQuery()).total == 0


def test_a_loop_that_always_meets_deadlocks_goes_on_when_they_end(
    own: Context, stop: Event, monkeypatch: pytest.MonkeyPatch
) -> None:
    claim, met = jobs.claim, []

    def in_the_way(*what: Any) -> Any:
        met.append(1)
        if len(met) <= 2 * retrying.ATTEMPTS:
            raise Deadlocked("somebody was in the way")
        return claim(*what)

    monkeypatch.setattr(jobs, "claim", in_the_way)
    monkeypatch.setattr(loop_module, "AWAY_SECONDS", 0.01)
    loop = Loop(own, [Handler(kind="paint", do=lambda _: None)])
    ask(own, "paint")
    thread = begun(loop, stop)
    wait_for(lambda: loop.done == 1)
    assert thread.is_alive()


def test_a_claim_is_renewed_while_its_job_goes_on_as_long_as_that_may_take(
    own: Context, office: Office, stop: Event, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(loop_module, "RENEW_SECONDS", 0.02)
    free, begun_at = Event(), office.clock.now
    handler = Handler(kind="run", do=lambda _: free.wait(60) and None, lease=timedelta(minutes=5))
    loop, other = Loop(own, [handler]), Loop(own, [handler])
    ask(own, "run")
    begun(loop, stop)

    def claimed_for() -> timedelta:
        with own.transaction() as session:
            until = session.query(Stored).one().claimed_until
            return until - office.clock.now if until is not None else timedelta(0)

    wait_for(lambda: claimed_for() == jobs.CLAIM)
    for _ in range(5):
        office.clock.forward(seconds=50)
        wait_for(lambda: claimed_for() == jobs.CLAIM)
        assert other.take() is None
    office.clock.now = begun_at + timedelta(minutes=7)  # it hangs: another does it
    assert other.take() is not None
    free.set()


def test_a_job_whose_worker_died_is_done_by_another_within_a_minute(own: Context, office: Office) -> None:
    handler = Handler(kind="run", do=lambda _: None, lease=timedelta(hours=1))
    dead, other = Loop(own, [handler]), Loop(own, [handler])
    ask(own, "run")
    assert dead.take() is not None
    office.clock.forward(seconds=59)
    assert other.take() is None
    office.clock.forward(seconds=2)
    assert other.take() is not None


def test_how_a_job_went_is_said_once_the_database_is_back(
    own: Context, stop: Event, monkeypatch: pytest.MonkeyPatch
) -> None:
    said, done, run = jobs.done, [], []

    def away(*what: Any) -> None:
        done.append(1)
        if len(done) < 4:
            raise OperationalError("gone away", None, Exception())
        said(*what)

    monkeypatch.setattr(jobs, "done", away)
    monkeypatch.setattr(loop_module, "AWAY_SECONDS", 0.01)
    loop = Loop(own, [Handler(kind="paint", do=lambda _: run.append(1))])
    ask(own, "paint")
    begun(loop, stop)
    wait_for(lambda: loop.done == 1)
    assert len(run) == 1 and len(done) == 4
    with own.transaction() as session:
        assert session.query(Stored).count() == 0
