"""Rebuilding counts from recorded usage, so that a restart forgets nothing."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal
from typing import Any

from calm_tariff.core.limiter import Counts
from calm_tariff.core.limits import COUNTED_PER, Call, Pace, Quota, Rate
from calm_tariff.core.periods import HOUR, SECOND
from calm_tariff.gateway.asked import key_subject
from calm_tariff.gateway.snapshot import Snapshot
from calm_tariff.services.context import Context
from calm_tariff.services.gateway_feed import Grant, calls_since, carrying_calls, counted_since
from calm_tariff.store.usage import Call as RecordedCall
from calm_tariff.store.usage_queries import Counted

_LONGEST = 31 * 24 * HOUR


def restored(ctx: Context, snapshot: Snapshot, now_us: int) -> dict[tuple[str, str], Any]:
    """The counts as they stand now by what is recorded. The journal must be shipped before.

    A window of the calendar is read once for everybody, one that began with subscriptions for these alone.
    """
    counts: dict[tuple[str, str], Any] = {}
    windows: dict[tuple[int, int], set[int] | None] = {}
    carrying: set[tuple[int, int]] = set()
    reach = 0
    looked_at: set[int] = set()
    for grant, stack in snapshot.held():
        for compiled in stack.compiled:
            limit = compiled.limit
            if isinstance(limit, Quota) and limit.aligned == "subscription":
                if now_us >= grant.started_us:
                    window = compiled.window(now_us)  # type: ignore[attr-defined]
                    whose = windows.setdefault(window, set())
                    if whose is not None:
                        whose.add(grant.subscription_id)
                    if limit.counted_per not in COUNTED_PER:
                        carrying.add(window)
            elif id(stack) in looked_at:
                continue  # what follows is the same for all that share the stack
            elif isinstance(limit, Quota):
                window = compiled.window(now_us)  # type: ignore[attr-defined]
                if limit.counted_per in COUNTED_PER:
                    windows[window] = None
                else:
                    carrying.add(window)
            else:
                reach = max(reach, _memory(limit))
        looked_at.add(id(stack))
    for (start, end), subscriptions in windows.items():
        rows = counted_since(ctx, start, min(end, now_us + 1), subscriptions)
        _count_units(counts, snapshot, rows, (start, end), now_us)
    for start, end in carrying:
        _count_carrying(counts, snapshot, carrying_calls(ctx, start, min(end, now_us + 1)), (start, end), now_us)
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
    meters = snapshot.meter_keys()
    for row in rows:
        known = snapshot.stack(row.subscription_id, snapshot.environment_of(row.key_id))
        if known is None:
            continue
        grant, stack = known
        for compiled in stack.applying(str(row.operation_id)):
            limit = compiled.limit
            if not isinstance(limit, Quota) or limit.meter != meters.get(row.meter_id):
                continue
            if limit.counted_per not in COUNTED_PER:
                continue
            if compiled.window(now_us) != window:  # type: ignore[attr-defined]
                continue
            subjects = _subjects(grant, row.key_id, row.operation_id, now_us)
            _add(counts, (compiled.scope, compiled.pick(subjects)), window[0], row.units)


def _count_carrying(
    counts: Counts, snapshot: Snapshot, calls: Iterable[RecordedCall], window: tuple[int, int], now_us: int
) -> None:
    """Count for quotas per value that calls carry, which hourly sums do not tell apart."""
    meters = snapshot.meter_keys()
    for call in calls:
        known = snapshot.stack(call.subscription_id or 0, call.environment)
        if known is None:
            continue
        subjects = _subjects(known[0], call.key_id or 0, call.operation_id or 0, call.at_us, call.carried)
        for compiled in known[1].applying(subjects.operation):
            limit = compiled.limit
            if not isinstance(limit, Quota) or limit.counted_per in COUNTED_PER:
                continue
            if compiled.window(now_us) == window:  # type: ignore[attr-defined]
                counted = [Decimal(n) for m, n in call.units.items() if meters.get(int(m)) == limit.meter]
                _add(counts, (compiled.scope, compiled.pick(subjects)), window[0], sum(counted, Decimal(0)))


def _add(counts: Counts, key: tuple[str, str], start: int, units: Decimal) -> None:
    total = (counts[key][1] if key in counts else 0) + units
    counts[key] = (start, int(total) if total == int(total) else total)


def _replay(counts: Counts, snapshot: Snapshot, calls: Iterable[RecordedCall]) -> None:
    for call in calls:
        known = snapshot.stack(call.subscription_id or 0, call.environment)
        if known is None:
            continue
        grant, stack = known
        asked = _subjects(grant, call.key_id or 0, call.operation_id or 0, call.at_us, call.carried)
        for compiled in stack.applying(asked.operation):
            if not isinstance(compiled.limit, Quota):
                key = (compiled.scope, compiled.pick(asked))
                counts[key] = compiled.take(counts.get(key), call.at_us, 1)[0]


def _subjects(grant: Grant, key_id: int, operation_id: int, at_us: int, carried: dict[str, str] | None = None) -> Call:
    return Call(
        at_us=at_us,
        key=key_subject(key_id, grant.application_id),
        application=str(grant.application_id),
        consumer=str(grant.consumer_id),
        subscription=str(grant.subscription_id),
        operation=str(operation_id),
        values=carried,
    )
