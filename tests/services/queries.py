"""How often the database is asked: a page of many rows asks no more often than one of a few."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from sqlalchemy import event

from calm_tariff.services.base.context import Context


@contextmanager
def asked(ctx: Context) -> Iterator[list[str]]:
    """The statements sent meanwhile."""
    found: list[str] = []

    def note(*said: object) -> None:
        found.append(str(said[2]))

    with ctx.sessions() as session:
        engine = session.get_bind()
    event.listen(engine, "before_cursor_execute", note)
    try:
        yield found
    finally:
        event.remove(engine, "before_cursor_execute", note)


@contextmanager
def meanwhile(ctx: Context, place: int, do: Callable[[], object]) -> Iterator[list[str]]:
    """The statements sent; something else is done, and kept, just before the one at `place` is."""
    found: list[str] = []
    doing = False

    def note(*said: object) -> None:
        nonlocal doing
        if doing:
            return
        found.append(str(said[2]))
        if len(found) == place + 1:
            doing = True
            do()
            doing = False

    with ctx.sessions() as session:
        engine = session.get_bind()
    event.listen(engine, "before_cursor_execute", note)
    try:
        yield found
    finally:
        event.remove(engine, "before_cursor_execute", note)
