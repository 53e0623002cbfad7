"""How often the database is asked: a page of many rows asks no more often than one of a few."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager

from sqlalchemy import event

from calm_tariff.services.base.context import Context


@contextmanager
def asked(ctx: Context, before: Callable[[list[str]], object] = len) -> Iterator[list[str]]:
    """The statements sent meanwhile. `before` is told of them before each is sent; what it sends itself is not among
    them."""
    found: list[str] = []
    busy = False

    def note(*said: object) -> None:
        nonlocal busy
        if busy:
            return
        found.append(str(said[2]))
        busy = True
        before(found)
        busy = False

    with ctx.sessions() as session:
        engine = session.get_bind()
    event.listen(engine, "before_cursor_execute", note)
    try:
        yield found
    finally:
        event.remove(engine, "before_cursor_execute", note)


def meanwhile(ctx: Context, place: int, do: Callable[[], object]) -> AbstractContextManager[list[str]]:
    """The statements sent; something else is done, and kept, just before the one at `place` is."""
    return asked(ctx, lambda found: do() if len(found) == place + 1 else None)
