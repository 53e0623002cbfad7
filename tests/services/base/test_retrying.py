"""What may be done again after a deadlock is what has kept nothing yet."""

from __future__ import annotations

from contextlib import suppress

import pytest
from sqlalchemy import select, update

from calm_tariff.core.errors import Conflict, Deadlocked
from calm_tariff.services.base import auditing, retrying
from calm_tariff.services.base.retrying import ATTEMPTS, PAUSE_SECONDS, again, attempt, pause
from calm_tariff.store.admit.consumers import Consumer
from tests.office import Office


def test_what_is_only_read_or_rolled_back_keeps_nothing(office: Office) -> None:
    with attempt() as made:
        with office.ctx.transaction() as session:
            session.scalars(select(Consumer)).all()
        with suppress(ZeroDivisionError), office.ctx.transaction() as session:
            auditing.note(session, office.manager, "did", ("thing", 1, "x"))
            session.flush()
            raise ZeroDivisionError
        assert made.kept == 0


def test_each_change_that_was_committed_counts_however_it_was_made(office: Office) -> None:
    with attempt() as made:
        with office.ctx.transaction() as session:
            auditing.note(session, office.manager, "did", ("thing", 1, "x"))
        assert made.kept == 1
        with office.ctx.transaction() as session:
            session.execute(update(Consumer).values(name=Consumer.name))
        assert made.kept == 2
        with office.ctx.transaction() as session:
            session.scalars(select(Consumer)).all()
        assert made.kept == 2


def test_an_attempt_counts_its_own_alone(office: Office) -> None:
    with attempt() as outer:
        with attempt() as inner, office.ctx.transaction() as session:
            auditing.note(session, office.manager, "did", ("thing", 1, "x"))
        assert (outer.kept, inner.kept) == (0, 1)


def test_pauses_grow_and_are_never_the_same_for_two() -> None:
    for n in range(ATTEMPTS):
        waits = {pause(n) for _ in range(50)}
        assert len(waits) > 40
        assert PAUSE_SECONDS * 2**n * 0.5 <= min(waits) < max(waits) <= PAUSE_SECONDS * 2**n * 1.5


def test_after_a_deadlock_work_is_done_again_unless_some_of_it_was_kept(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(retrying, "PAUSE_SECONDS", 0.0)
    tried: list[int] = []

    def work(failing: int, keeps: bool = False) -> str:
        tried.append(failing)
        if keeps:
            with office.ctx.transaction() as session:
                auditing.note(session, office.manager, "did", ("thing", 1, "x"))
        if len(tried) <= failing:
            raise Deadlocked("somebody was in the way")
        return "done"

    assert again(lambda: work(ATTEMPTS - 1)) == "done" and len(tried) == ATTEMPTS
    tried.clear()
    with pytest.raises(Deadlocked):
        again(lambda: work(ATTEMPTS))
    assert len(tried) == ATTEMPTS
    tried.clear()
    with pytest.raises(Deadlocked):
        again(lambda: work(1, keeps=True))  # done again, what was kept would be kept twice
    assert len(tried) == 1


def test_what_goes_wrong_otherwise_is_not_done_again() -> None:
    tried: list[int] = []

    def work() -> None:
        tried.append(1)
        raise Conflict("it is so")

    with pytest.raises(Conflict):
        again(work)
    assert len(tried) == 1
