"""One worker leads an installation at a time."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import text

from calm_tariff.services.base.context import Context


@contextmanager
def leading(ctx: Context) -> Iterator[bool]:
    """Whether this worker leads its installation, for as long as the block runs (a database lock)."""
    with ctx.sessions() as session:
        won = session.scalar(text("SELECT GET_LOCK(CONCAT('calm-worker-', DATABASE()), 0)")) == 1
        try:
            yield won
        finally:
            if won:
                session.execute(text("SELECT RELEASE_LOCK(CONCAT('calm-worker-', DATABASE()))"))
