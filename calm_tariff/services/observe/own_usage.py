"""What a consumer's calls came to over some days: by day, application, operation, key and status, and what refused
them. Every figure is a sum of the same rows, and opens to the calls."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import refusals
from calm_tariff.core.errors import Invalid
from calm_tariff.core.meters import Environment
from calm_tariff.core.periods import day_start, local_day
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.serve import advice
from calm_tariff.store.admit.applications import ApiKey, Application
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.serve import call_queries, usage_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.usage_queries import OwnOutcomes

# So many days are looked at where nobody says which.
USUAL = 30
# So many days can be looked at together.
LONGEST = 400
# Of so many causes of refusals is said what would have let the newest call in.
EXPLAINED = 6


@dataclass(frozen=True, slots=True, kw_only=True)
class UsageWanted:
    """Which calls are meant: of the local days from `since` to `until`, today where it is not said and the thirty that
    end with it; what is absent does not narrow."""

    since: date | None = None
    until: date | None = None
    environment: Environment | None = None
    application: int | None = None
    operation: int | None = None
    key: int | None = None
    status: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class DayUse:
    """A local day. `bytes_out` is what was answered; the same in all that follows."""

    day: date
    since_us: int
    until_us: int
    served: int
    held: int
    refused: int
    bytes_out: int


@dataclass(frozen=True, slots=True, kw_only=True)
class PartUse:
    """What one application, operation, key or status had of the calls; `id` 0 stands for none that is known."""

    id: int
    name: str
    served: int
    held: int
    refused: int
    bytes_out: int


@dataclass(frozen=True, slots=True, kw_only=True)
class RefusedBy:
    """What refused calls, a limit or something before the limits; the newest of them, and what would have let it in."""

    by: str
    name: str
    calls: int
    newest: str | None
    advice: list[str]


@dataclass(frozen=True, slots=True, kw_only=True)
class UsageView:
    """The calls of some days. Each of the lists is narrowed by everything but its own kind, so that it shows what else
    could be chosen; the days and sums by everything. Without leave to see keys, there are none in it."""

    since: date
    until: date
    since_us: int
    until_us: int
    served: int
    held: int
    refused: int
    bytes_in: int
    bytes_out: int
    days: list[DayUse]
    applications: list[PartUse]
    operations: list[PartUse]
    keys: list[PartUse]
    statuses: list[PartUse]
    refusals: list[RefusedBy]


@dataclass(frozen=True, slots=True, kw_only=True)
class UseRow:
    """What the figures are sums of, by local day: a row of the file."""

    day: date
    application: str
    operation: str
    key: str
    environment: str
    verdict: str
    refused_by: str
    status: int
    calls: int
    bytes_in: int
    bytes_out: int


def usage(ctx: Context, wanted: UsageWanted) -> UsageView:
    """The signed-in consumer's calls of some days. Raises `Invalid` for days that are none."""
    consumer = ctx.actor.own_consumer
    with ctx.reading() as session:
        days, bounds = _days(session, ctx, wanted)
        rows = usage_queries.outcomes_of(session, consumer, bounds)
        shown = _narrowed(rows, wanted)
        named = _names(session, rows, keys=ctx.actor.may("see credentials"))
        return UsageView(
            since=days[0],
            until=days[-1],
            since_us=bounds[0],
            until_us=bounds[-1],
            days=[
                DayUse(
                    day=day, since_us=bounds[n], until_us=bounds[n + 1], **_verdicts(r for r in shown if r.place == n)
                )
                for n, day in enumerate(days)
            ],
            bytes_in=sum(r.bytes_in for r in shown),
            applications=_parts(_narrowed(rows, wanted, but="application"), "application_id", named["application_id"]),
            operations=_parts(_narrowed(rows, wanted, but="operation"), "operation_id", named["operation_id"]),
            keys=_parts(_narrowed(rows, wanted, but="key"), "key_id", named["key_id"]) if named["key_id"] else [],
            statuses=_parts(_narrowed(rows, wanted, but="status"), "status", {}),
            refusals=_refusals(session, shown, _filter(consumer, wanted, bounds)),
            **_verdicts(shown),
        )


def rows(ctx: Context, wanted: UsageWanted) -> list[UseRow]:
    """What the figures are sums of, for a file. Raises `Invalid` for days that are none."""
    consumer = ctx.actor.own_consumer
    with ctx.reading() as session:
        days, bounds = _days(session, ctx, wanted)
        found = _narrowed(usage_queries.outcomes_of(session, consumer, bounds), wanted)
        named = _names(session, found, keys=ctx.actor.may("see credentials"))
        return [
            UseRow(
                day=days[r.place],
                application=named["application_id"].get(r.application_id, ""),
                operation=named["operation_id"].get(r.operation_id, ""),
                key=named["key_id"].get(r.key_id, ""),
                environment=r.environment,
                verdict=r.verdict,
                refused_by=refusals.in_words(r.refused_by),
                status=r.status,
                calls=r.calls,
                bytes_in=r.bytes_in,
                bytes_out=r.bytes_out,
            )
            for r in found
        ]


def _days(session: Session, ctx: Context, wanted: UsageWanted) -> tuple[list[date], list[int]]:
    """The local days that are meant, and the instants at which each begins and the last one ends."""
    where = zone_of(session)
    until = wanted.until or local_day(ctx.now_us, where)
    if until.year >= 9999 or until.year <= 1970:
        raise Invalid("is no day of this installation's", "until")
    since = wanted.since or until - timedelta(days=USUAL - 1)
    if since > until:
        raise Invalid("must not come after the last day", "since")
    if (until - since).days >= LONGEST:
        raise Invalid(f"at most {LONGEST} days are looked at together", "since")
    days = [since + timedelta(days=n) for n in range((until - since).days + 1)]
    return days, [day_start(day, where) for day in (*days, days[-1] + timedelta(days=1))]


_FIELDS = {"application": "application_id", "operation": "operation_id", "key": "key_id", "status": "status"}


def _narrowed(rows: Sequence[OwnOutcomes], wanted: UsageWanted, but: str = "") -> list[OwnOutcomes]:
    """The rows that are meant, one kind of choice left aside."""
    chosen = {column: getattr(wanted, name) for name, column in _FIELDS.items() if name != but}
    chosen["environment"] = wanted.environment
    tests = [(column, value) for column, value in chosen.items() if value is not None]
    return [row for row in rows if all(getattr(row, column) == value for column, value in tests)]


def _filter(consumer: int, wanted: UsageWanted, bounds: Sequence[int]) -> CallFilter:
    """The same calls, for the log."""
    return CallFilter(
        consumer_id=consumer,
        environment=wanted.environment,
        application_id=wanted.application,
        operations=[wanted.operation] if wanted.operation else None,
        key_id=wanted.key,
        status=wanted.status,
        since_us=bounds[0],
        until_us=bounds[-1],
    )


def _verdicts(rows: Iterable[OwnOutcomes]) -> dict[str, int]:
    sums = {"served": 0, "held": 0, "refused": 0, "bytes_out": 0}
    for row in rows:
        sums[row.verdict] += row.calls
        sums["bytes_out"] += row.bytes_out
    return sums


def _parts(rows: Sequence[OwnOutcomes], column: str, names: dict[int, str]) -> list[PartUse]:
    """The rows by one of their kinds, the most calls first."""
    found: dict[int, list[OwnOutcomes]] = {}
    for row in rows:
        found.setdefault(getattr(row, column), []).append(row)
    parts = [PartUse(id=n, name=names.get(n, str(n) if n else ""), **_verdicts(own)) for n, own in found.items()]
    return sorted(parts, key=lambda p: (-(p.served + p.held + p.refused), p.name))


def _names(session: Session, rows: Sequence[OwnOutcomes], keys: bool) -> dict[str, dict[int, str]]:
    """What operations, applications and keys are called."""

    def read(table: Any, column: str, name: Callable[[Any], str]) -> dict[int, str]:
        ids = {getattr(row, column) for row in rows} - {0}
        return {found.id: name(found) for found in session.scalars(select(table).where(table.id.in_(ids)))}

    labels = read(Operation, "operation_id", lambda o: o.label)
    several = {label for label, count in Counter(labels.values()).items() if count > 1}
    versions = read(Operation, "operation_id", lambda o: f"{o.api_version.api.name} {o.api_version.version}")
    return {
        # Of versions that are alive beside each other, operations may be called the same.
        "operation_id": {n: f"{x}, {versions[n]}" if x in several else x for n, x in labels.items()},
        "application_id": read(Application, "application_id", lambda a: a.name),
        "key_id": read(ApiKey, "key_id", lambda k: f"{k.prefix}… {k.label}") if keys else {},
    }


def _refusals(session: Session, rows: Sequence[OwnOutcomes], calls: CallFilter) -> list[RefusedBy]:
    sums: dict[str, int] = {}
    for row in rows:
        if row.verdict == "refused":
            sums[row.refused_by] = sums.get(row.refused_by, 0) + row.calls
    found: list[RefusedBy] = []
    for by, count in sorted(sums.items(), key=lambda item: (-item[1], item[0])):
        newest = call_queries.newest_refused(session, calls, by) if len(found) < EXPLAINED else None
        found.append(
            RefusedBy(
                by=by,
                name=refusals.in_words(by),
                calls=count,
                newest=newest.call_id if newest else None,
                advice=advice.advice_for(session, newest) if newest else [],
            )
        )
    return found
