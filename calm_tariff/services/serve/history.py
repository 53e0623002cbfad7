"""Taking recorded calls in from elsewhere than a gateway's journal."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from itertools import islice
from typing import Any, cast

from sqlalchemy import Engine, select

from calm_tariff.core.errors import Conflict
from calm_tariff.services.base.context import Context
from calm_tariff.store.serve import history_loader
from calm_tariff.store.serve.call_writer import record
from calm_tariff.store.serve.usage import Call

BATCH = 5000


def take_in(ctx: Context, calls: Iterable[dict[str, Any]]) -> int:
    """Record calls in batches, each in a transaction of its own and each call once; returns how many were new."""
    found = iter(calls)
    new = 0
    while batch := list(islice(found, BATCH)):
        with ctx.transaction() as session:
            new += record(session, batch, ctx.now)
    return new


def begin_with(ctx: Context, calls: Iterable[dict[str, Any]], told: Callable[[int], None]) -> int:
    """Load a history that no call of is recorded yet, all of it or nothing; `told` hears how many calls
    were read. See `refuse_second`."""
    with ctx.transaction() as session:
        engine = cast(Engine, session.get_bind())
    return history_loader.load(engine, calls, told)


def refuse_second(ctx: Context) -> None:
    """Raise `Conflict` where calls are recorded already."""
    with ctx.transaction() as session:
        if session.scalar(select(Call.call_id).limit(1)) is not None:
            raise Conflict("calls are recorded here already", "history")
