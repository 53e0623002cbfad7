"""Reading recorded calls: pages of the log, figures by minute."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from heapq import merge
from itertools import islice
from typing import Any, TypeVar

from sqlalchemy import ColumnElement, Select, and_, delete, false, func, or_, select
from sqlalchemy.orm import Session, load_only

from calm_tariff.core.periods import HOUR, MINUTE
from calm_tariff.store.admit import merged
from calm_tariff.store.serve.usage import Call, CallBodies, HourlyOutcomes, HourlyVerdicts, SetAside
from calm_tariff.store.serve.usage_queries import verdicts_between

_REPLAYED = (
    "at_us",
    "call_id",
    "environment",
    "subscription_id",
    "application_id",
    "consumer_id",
    "key_id",
    "operation_id",
    "credential",
    "carried",
    "checks",
    "decided_us",
    "decided_order",
)
Q = TypeVar("Q", bound=Select[*tuple[Any, ...]])


@dataclass(frozen=True, slots=True)
class CallFilter:
    """Which calls are meant; absent fields do not narrow. A consumer's are those, too, of others that were merged into
    it. Instants: [since_us, until_us)."""

    verdict: str | None = None
    consumer_id: int | None = None
    subscription_id: int | None = None
    application_id: int | None = None
    key_id: int | None = None
    environment: str | None = None
    status: int | None = None
    refused_by: str | None = None
    operations: Sequence[int] | None = None
    meter_id: int | None = None
    usage_file_id: int | None = None
    since_us: int | None = None
    until_us: int | None = None


@dataclass(frozen=True, slots=True)
class MinuteVerdicts:
    """Calls of one minute with one verdict; `waited_us` is the sum of their waits."""

    minute_us: int
    verdict: str
    calls: int
    waited_us: int


def page(session: Session, wanted: CallFilter, before: str | None, limit: int) -> list[Call]:
    """Calls, newest first, that come before the call id `before`. Call ids sort by time."""
    anchor = session.execute(select(Call.at_us).where(Call.call_id == before)).scalar() if before else None
    # Each consumer's newest are read along an index; those of several at once would have to be sorted.
    parts = [_newest(session, one, before, anchor, limit) for one in one_by_one(session, wanted)]
    return list(islice(merge(*parts, key=lambda call: (call.at_us, call.call_id), reverse=True), limit))


def _newest(session: Session, wanted: CallFilter, before: str | None, anchor: int | None, limit: int) -> list[Call]:
    query = narrowed(select(Call), wanted).order_by(Call.at_us.desc(), Call.call_id.desc()).limit(limit)
    if anchor is not None:
        query = query.where((Call.at_us < anchor) | ((Call.at_us == anchor) & (Call.call_id < before)))
    if _is_rare(wanted):
        hours = _hours_to_read(session, wanted, anchor, limit)
        query = query.where(or_(false(), *(and_(Call.at_us >= hour, Call.at_us < hour + HOUR) for hour in hours)))
    return list(session.scalars(query))


def one_by_one(session: Session, wanted: CallFilter) -> list[CallFilter]:
    """What is meant, by consumer: as often as others were merged into the one that is asked for, and once more."""
    if wanted.consumer_id is None:
        return [wanted]
    return [replace(wanted, consumer_id=each) for each in merged.with_merged(session, wanted.consumer_id)]


def _is_rare(wanted: CallFilter) -> bool:
    """Whether the calls meant may be few among many of one consumer, and sums of hours tell where they are."""
    by_call = _is_by_call(wanted)
    kinds = [getattr(wanted, name) for name in _ALIKE if name != "consumer_id"]
    return wanted.consumer_id is not None and not by_call and (any(kinds) or wanted.operations is not None)


def _is_by_call(wanted: CallFilter) -> bool:
    """Whether calls are meant by what no sum of hours tells apart."""
    return any(each is not None for each in (wanted.subscription_id, wanted.meter_id, wanted.usage_file_id))


def _hours_to_read(session: Session, wanted: CallFilter, anchor: int | None, limit: int) -> list[int]:
    """The newest hours that hold the calls of a page: so many that they have enough of them, not counting those in
    which some may lie outside of what is asked for."""
    since, until = wanted.since_us, wanted.until_us
    last = min((edge for edge in (until, None if anchor is None else anchor + 1) if edge is not None), default=None)
    query = select(HourlyOutcomes.hour_us, func.sum(HourlyOutcomes.calls)).where(*_conditions(HourlyOutcomes, wanted))
    if since is not None:
        query = query.where(HourlyOutcomes.hour_us > since - HOUR)
    if last is not None:
        query = query.where(HourlyOutcomes.hour_us < last)
    found: list[int] = []
    enough = 0
    for hour, calls in session.execute(query.group_by(HourlyOutcomes.hour_us).order_by(HourlyOutcomes.hour_us.desc())):
        found.append(hour)
        whole = (since is None or hour >= since) and (last is None or hour + HOUR <= last)
        enough += int(calls) if whole else 0
        if enough >= limit:
            break
    return found


def count(session: Session, wanted: CallFilter) -> int:
    """How many calls are meant. What sums of hours can tell is not counted call by call."""
    by_sums = not _is_by_call(wanted)
    return sum(
        _by_sums(session, one)
        if by_sums
        else session.scalar(narrowed(select(func.count()).select_from(Call), one)) or 0
        for one in one_by_one(session, wanted)
    )


def _by_sums(session: Session, wanted: CallFilter) -> int:
    last = (session.scalar(select(func.max(HourlyVerdicts.hour_us))) or 0) + HOUR
    start, end = wanted.since_us or 0, min(wanted.until_us or last, last)
    begin, stop = -(-start // HOUR) * HOUR, end // HOUR * HOUR
    total = 0
    if begin >= stop:
        edges = [(start, end)]
    else:
        edges = [(start, begin), (stop, end)]
        if wanted == CallFilter(wanted.verdict, wanted.consumer_id, since_us=wanted.since_us, until_us=wanted.until_us):
            whose = None if wanted.consumer_id is None else [wanted.consumer_id]
            sums = verdicts_between(session, begin, stop, whose)
            total = sum(n for calls in sums.values() for v, n in calls.items() if wanted.verdict in (None, v))
        else:
            hours = HourlyOutcomes.hour_us >= begin, HourlyOutcomes.hour_us < stop
            query = select(func.sum(HourlyOutcomes.calls)).where(*hours, *_conditions(HourlyOutcomes, wanted))
            total = int(session.scalar(query) or 0)
    for a, b in edges:
        if a < b:
            edge = replace(wanted, since_us=a, until_us=b)
            total += session.scalar(narrowed(select(func.count()).select_from(Call), edge)) or 0
    return total


def newest_refused(session: Session, wanted: CallFilter, by: str) -> Call | None:
    """The newest of the calls meant that something refused."""
    found = page(session, replace(wanted, verdict="refused", refused_by=by), None, 1)
    return found[0] if found else None


def one(session: Session, call_id: str) -> Call | None:
    """The call of that id."""
    return session.scalar(select(Call).where(Call.call_id == call_id))


def let_through_after(session: Session, after: tuple[int, str], limit: int) -> list[Call]:
    """Let-through calls that come after an instant and id, in this order."""
    at_us, call_id = after
    later = (Call.at_us > at_us) | ((Call.at_us == at_us) & (Call.call_id > call_id))
    query = select(Call).where(Call.at_us >= at_us, later, Call.verdict != "refused")
    query = query.options(load_only(*(getattr(Call, name) for name in _REPLAYED)))
    return list(session.scalars(query.order_by(Call.at_us, Call.call_id).limit(limit)))


def last_counted(session: Session, subscription_id: int, stay_id: int, meter_id: int) -> int | None:
    """The instant of a stay's last call that a meter counted."""
    query = select(func.max(Call.at_us)).where(Call.subscription_id == subscription_id, Call.stay_id == stay_id)
    query = query.where(Call.strike_id.is_(None))
    return session.scalar(query.where(func.json_exists(Call.units, f'$."{meter_id}"')))


def counted(
    session: Session, consumer_id: int, window: tuple[int, int], scope: str
) -> Iterator[tuple[str, Decimal, tuple[str, int]]]:
    """What a count holds of a consumer's calls in a window, in the order of the calls: subject, units, and the call by
    its id and instant."""
    whose = Call.consumer_id.in_(merged.with_merged(session, consumer_id))
    query = select(Call.call_id, Call.at_us, Call.counted).where(
        whose, Call.at_us >= window[0], Call.at_us < window[1], Call.verdict != "refused"
    )
    in_order = query.order_by(Call.at_us, Call.call_id).execution_options(yield_per=2000)
    for call_id, at_us, counts in session.execute(in_order):
        if scope in counts:
            subject, _, _, units = counts[scope]
            yield subject, Decimal(units), (call_id, at_us)


def by_minute(session: Session, wanted: CallFilter) -> list[MinuteVerdicts]:
    """Calls by minute and verdict."""
    minute = Call.at_us - Call.at_us % MINUTE
    sums: dict[tuple[int, str], list[int]] = {}
    for one in one_by_one(session, wanted):
        query = narrowed(select(minute.label("minute"), Call.verdict, func.count(), func.sum(Call.wait_us)), one)
        for at, verdict, calls, waited in session.execute(query.group_by(minute, Call.verdict)):
            cell = sums.setdefault((int(at), verdict), [0, 0])
            cell[0], cell[1] = cell[0] + calls, cell[1] + int(waited)
    return [MinuteVerdicts(*place, *cell) for place, cell in sorted(sums.items())]


_ALIKE = ("verdict", "consumer_id", "application_id", "key_id", "environment", "status", "refused_by")


def _conditions(table: Any, wanted: CallFilter) -> list[ColumnElement[bool]]:
    """What narrows both calls and their sums by hour."""
    found = [getattr(table, name) == getattr(wanted, name) for name in _ALIKE if getattr(wanted, name) is not None]
    if wanted.operations is not None:
        found.append(table.operation_id.in_(wanted.operations))
    return found


def narrowed(query: Q, wanted: CallFilter) -> Q:
    """A query of calls narrowed to those meant."""
    query = query.where(*_conditions(Call, wanted))
    if wanted.subscription_id is not None:
        query = query.where(Call.subscription_id == wanted.subscription_id)
    if wanted.meter_id is not None:
        query = query.where(func.json_exists(Call.units, f'$."{wanted.meter_id}"'))
    if wanted.usage_file_id is not None:
        query = query.where(Call.usage_file_id == wanted.usage_file_id)
    if wanted.since_us is not None:
        query = query.where(Call.at_us >= wanted.since_us)
    if wanted.until_us is not None:
        query = query.where(Call.at_us < wanted.until_us)
    return query


def bodies(session: Session, call_id: str) -> CallBodies | None:
    """The beginnings of a call's bodies, where they are kept."""
    return session.get(CallBodies, call_id)


def oldest(session: Session) -> int | None:
    """When the oldest call that is kept came."""
    return session.scalar(select(func.min(Call.at_us)))


def forget_calls(session: Session, before_us: int, at_most: int) -> int:
    """Throw away calls before an instant, the oldest first, with what was set aside of them; how many there were."""
    old = select(Call.call_id, Call.at_us).where(Call.at_us < before_us).order_by(Call.at_us, Call.call_id)
    gone = session.execute(old.limit(at_most)).all()
    if gone:
        ids, last = [call_id for call_id, _ in gone], gone[-1].at_us
        session.execute(delete(Call).where(Call.at_us <= last, Call.call_id.in_(ids)))
        session.execute(delete(SetAside).where(SetAside.call_id.in_(ids)))
    return len(gone)


def forget_bodies(session: Session, before_us: int, at_most: int) -> int:
    """Throw away bodies of calls before an instant, the oldest first; how many there were."""
    old = select(CallBodies.call_id).where(CallBodies.at_us < before_us).order_by(CallBodies.at_us).limit(at_most)
    gone = list(session.scalars(old))
    session.execute(delete(CallBodies).where(CallBodies.call_id.in_(gone)))
    return len(gone)
