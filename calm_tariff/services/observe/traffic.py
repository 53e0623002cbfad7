"""Recorded calls: the log, and figures by minute."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from calm_tariff.core.errors import Invalid
from calm_tariff.core.periods import MINUTE, moment_of
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.serve.call_lines import CallLine, lines
from calm_tariff.store.base.paging import Page
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.call_queries import CallFilter

PAGE = 40


@dataclass(frozen=True, slots=True)
class Minute:
    """Verdicts of one minute."""

    at: datetime
    served: int
    held: int
    refused: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Recent:
    """The last half hour: totals and minutes. `held_ms` is the mean wait of held calls."""

    served: int
    held: int
    held_ms: int
    refused: int
    minutes: list[Minute]
    newest: str | None


def log(ctx: Context, wanted: CallFilter, cursor: str | None = None, rows: int = PAGE) -> Page[CallLine]:
    """A page of the log for the provider's staff, newest first. Raises `Invalid` for what a file of usage brought in
    of all consumers at once: it would be looked for among all calls."""
    ctx.actor.must_be(*ROLES)
    if wanted.usage_file_id is not None and wanted.consumer_id is None:
        raise Invalid("say of which consumer", "consumer")
    return _log(ctx, wanted, cursor, rows)


def own_log(ctx: Context, wanted: CallFilter, cursor: str | None = None, rows: int = PAGE) -> Page[CallLine]:
    """A page of the signed-in consumer's own calls, whatever consumer the filter names."""
    return _log(ctx, replace(wanted, consumer_id=ctx.actor.own_consumer), cursor, rows)


def recent(ctx: Context, wanted: CallFilter, minutes: int = 30) -> Recent:
    """Verdicts of the last minutes, the present one included."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        last = ctx.now_us // MINUTE * MINUTE
        first = last - (minutes - 1) * MINUTE
        narrowed = CallFilter(verdict=wanted.verdict, consumer_id=wanted.consumer_id, since_us=first)
        counts: dict[int, dict[str, int]] = {}
        totals = {"served": 0, "held": 0, "refused": 0}
        waited = 0
        for row in call_queries.by_minute(session, narrowed):
            counts.setdefault(row.minute_us, {})[row.verdict] = row.calls
            totals[row.verdict] += row.calls
            waited += row.waited_us
        newest = call_queries.page(session, narrowed, None, 1)
        shown = [
            Minute(
                moment_of(at),
                *(counts.get(at, {}).get(v, 0) for v in ("served", "held", "refused")),
            )
            for at in range(first, last + 1, MINUTE)
        ]
        held_ms = round(waited / 1000 / totals["held"]) if totals["held"] else 0
        return Recent(
            served=totals["served"],
            held=totals["held"],
            held_ms=held_ms,
            refused=totals["refused"],
            minutes=shown,
            newest=newest[0].call_id if newest else None,
        )


def _log(ctx: Context, wanted: CallFilter, cursor: str | None, rows: int) -> Page[CallLine]:
    with ctx.reading() as session:
        found = call_queries.page(session, wanted, cursor, rows + 1)
        shown = lines(session, found[:rows])
        total = call_queries.count(session, wanted)
        return Page(shown, found[rows - 1].call_id if len(found) > rows else None, total)
