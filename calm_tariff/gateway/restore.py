"""Rebuilding counts from recorded usage, so that a restart forgets nothing."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from calm_tariff.core.limiter import Counts
from calm_tariff.core.limits import Call, Pace, Quota, Rate
from calm_tariff.core.periods import HOUR, SECOND
from calm_tariff.gateway.snapshot import Snapshot
from calm_tariff.services.context import Context
from calm_tariff.services.gateway_feed import calls_since, counted_since
from calm_tariff.store.usage import Call as RecordedCall
from calm_tariff.store.usage_queries import Counted

_LONGEST = 31 * 24 * HOUR


def restored(ctx: Context, snapshot: Snapshot, now_us: int) -> dict[tuple[str, str], Any]:
    """The counts as they stand now by what is recorded. The journal must be shipped before."""
    counts: dict[tuple[str, str], Any] = {}
    windows: set[tuple[int, int]] = set()
    reach = 0
    for grant, stack in snapshot.stacks.values():
        for compiled in stack.compiled:
            limit = compiled.limit
            if isinstance(limit, Quota):
                if limit.aligned == "calendar" or now_us >= grant.started_us:
                    windows.add(compiled.window(now_us))  # type: ignore[attr-defined]
            else:
                reach = max(reach, _memory(limit))
    for start, end in windows:
        _count_units(counts, snapshot, counted_since(ctx, start, min(end, now_us + 1)), (start, end), now_us)
    if reach:
        _replay(counts, snapshot, calls_since(ctx, now_us - min(reach, _LONGEST)))
    return counts


def _memory(limit: Any) -> int:
    """How far back a call can still matter to a limit, in µs."""
    if isinstance(limit, Rate):
        return -(-limit.burst * limit.per_seconds * SECOND // limit.calls)
    if isinstance(limit, Pace):
        return limit.max_wait_ms * 1000 + -(-limit.per_seconds * SECOND // limit.calls)
    return int(limit.per_seconds) * SECOND


def _count_units(
    counts: Counts, snapshot: Snapshot, rows: Iterable[Counted], window: tuple[int, int], now_us: int
) -> None:
    meters = {c.meter_id: c.meter.key for a in snapshot.access.values() for c in a.meters}
    for row in rows:
        known = snapshot.stacks.get((row.subscription_id, snapshot.environment_of(row.key_id)))
        if known is None:
            continue
        grant, stack = known
        for compiled in stack.applying(str(row.operation_id)):
            limit = compiled.limit
            if not isinstance(limit, Quota) or limit.meter != meters.get(row.meter_id):
                continue
            if compiled.window(now_us) != window:  # type: ignore[attr-defined]
                continue
            key = (compiled.scope, compiled.pick(_subjects(grant, row.key_id, row.operation_id, now_us)))
            used = counts[key][1] if key in counts else 0
            total = used + row.units
            counts[key] = (window[0], int(total) if total == int(total) else total)


def _replay(counts: Counts, snapshot: Snapshot, calls: Iterable[RecordedCall]) -> None:
    for call in calls:
        known = snapshot.stacks.get((call.subscription_id or 0, call.environment))
        if known is None:
            continue
        grant, stack = known
        asked = _subjects(grant, call.key_id or 0, call.operation_id or 0, call.at_us)
        for compiled in stack.applying(asked.operation):
            if not isinstance(compiled.limit, Quota):
                key = (compiled.scope, compiled.pick(asked))
                counts[key] = compiled.take(counts.get(key), call.at_us, 1)[0]


def _subjects(grant: Any, key_id: int, operation_id: int, at_us: int) -> Call:
    return Call(
        at_us=at_us,
        key=str(key_id),
        application=str(grant.application_id),
        consumer=str(grant.consumer_id),
        subscription=str(grant.subscription_id),
        operation=str(operation_id),
    )
