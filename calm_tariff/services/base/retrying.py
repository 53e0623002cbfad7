"""Doing again what was rolled back because two waited for each other.

A deadlock is nobody's mistake, and the database undoes all of one of the two. What was asked for may be done again from
the start, as long as nothing of it was kept before: then whoever asked does not notice.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import TypeVar

from sqlalchemy import event
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.orm import ORMExecuteState, Session, UOWTransaction

from calm_tariff.core.errors import Deadlocked

T = TypeVar("T")

ATTEMPTS = 5
# So long at first, and longer each time, apart from whoever it collided with.
PAUSE_SECONDS = 0.02
# What goes on again and again waits these out: the database is away, or others were in the way up to the last attempt.
PASSING = (SQLAlchemyError, Deadlocked)
_WROTE = "wrote"


@dataclass(slots=True)
class Attempt:
    """One attempt at something: how many changes of it were kept."""

    kept: int = 0


_attempt: ContextVar[Attempt | None] = ContextVar("attempt", default=None)


@contextmanager
def attempt() -> Iterator[Attempt]:
    """Within this, what is kept is counted: should `Deadlocked` be raised with nothing kept, it may be done again."""
    made = Attempt()
    token = _attempt.set(made)
    try:
        yield made
    finally:
        _attempt.reset(token)


def again(work: Callable[[], T]) -> T:
    """What `work` comes to. After a deadlock it is done again, as long as nothing of it was kept. Raises what it does;
    `Deadlocked` where the last attempt met one, too."""
    for attempts in range(ATTEMPTS):
        with attempt() as made:
            try:
                return work()
            except Deadlocked:
                if made.kept or attempts == ATTEMPTS - 1:
                    raise
        time.sleep(pause(attempts))
    raise AssertionError("the last attempt comes to something or raises")


def pause(attempts: int) -> float:
    """How many seconds to wait after so many attempts."""
    return PAUSE_SECONDS * float(1 << attempts) * (0.5 + random.random())


def committed(session: Session) -> None:
    """A transaction was committed: said by whoever ran it."""
    wrote = session.info.pop(_WROTE, False)
    running = _attempt.get()
    if wrote and running is not None:
        running.kept += 1


@event.listens_for(Session, "after_flush")
def _flushed(session: Session, _: UOWTransaction) -> None:
    session.info[_WROTE] = True


@event.listens_for(Session, "do_orm_execute")
def _executed(state: ORMExecuteState) -> None:
    if not state.is_select:
        state.session.info[_WROTE] = True
