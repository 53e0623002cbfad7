"""Writing recorded calls in bulk, each once, with their sums, in the caller's transaction."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from decimal import Decimal
from hashlib import sha256
from typing import Any

import orjson
from pymysql.converters import escape_string
from sqlalchemy import Connection, func, select
from sqlalchemy.dialects.mysql import insert as upsert
from sqlalchemy.orm import Session

from calm_tariff.core.answering import band_of, failed
from calm_tariff.core.periods import DAY, HOUR
from calm_tariff.store.admit.applications import ApiKeyUse
from calm_tariff.store.serve.quota_queries import digest
from calm_tariff.store.serve.usage import (
    Call,
    CallBodies,
    DailyAnswers,
    DailyUsage,
    DailyVerdicts,
    HourlyOutcomes,
    HourlyUsage,
    HourlyVerdicts,
    QuotaCount,
    SetAside,
)

Record = dict[str, Any]
CHUNK = 2000
# Rows of these are no consumer's alone: whoever writes adds to what others wrote.
SHARED: frozenset[Any] = frozenset({DailyAnswers, QuotaCount})


# What older journal lines and made-up histories do not say.
_UNSAID: Record = {
    "credential": "key",
    "decide_us": 0,
    "back_end_us": 0,
    "reserved": 0,
    "decided_us": 0,
    "decided_order": 0,
    "carried": {},
    "remarks": [],
    "counted": {},
    "reported": {},
    "sent": {},
    "outside_id": None,
    "usage_file_id": None,
    "strike_id": None,
}


def record(session: Session, calls: Sequence[Record], now: datetime) -> int:
    """Insert the calls not yet recorded and add them to the sums of hours and days; returns how many were new.

    Columns as in `Call`. A call whose id is there already changes nothing; where it says something else than what is
    recorded, that is set aside. A repeat may say some columns alone, and then not `at_us`.
    """
    new: list[Record] = []
    bodies = {call["call_id"]: (call, kept) for call in calls if (kept := call.pop("bodies", None))}
    for start in range(0, len(calls), CHUNK):
        chunk = calls[start : start + CHUNK]
        there = set(session.scalars(select(Call.call_id).where(Call.call_id.in_({c["call_id"] for c in chunk}))))
        fresh: dict[str, Record] = {}
        repeats: list[Record] = []
        for call in chunk:
            first = "at_us" in call and call["call_id"] not in there and call["call_id"] not in fresh
            if first:
                fresh[call["call_id"]] = {**_UNSAID, **call}
            else:
                repeats.append({**_UNSAID, **call} if "at_us" in call else call)
        if fresh:
            _insert(session, list(fresh.values()))
            new.extend(fresh.values())
        if repeats:
            set_aside(session, repeats, now)
    _add_to_sums(session, new)
    note_uses(session, list(last_uses(new)))
    _keep_bodies(session, new, bodies)
    return len(new)


def note_uses(to: Session | Connection, rows: Sequence[Record]) -> None:
    """Keep when each key was last used, and from where: rows as `last_uses` gives them."""
    if rows:
        statement = upsert(ApiKeyUse)
        newer = statement.inserted.last_at_us > ApiKeyUse.last_at_us
        # The address first: what is set after it would be what it is held against.
        changed = [
            ("address", func.if_(newer, statement.inserted.address, ApiKeyUse.address)),
            ("last_at_us", func.greatest(statement.inserted.last_at_us, ApiKeyUse.last_at_us)),
        ]
        to.execute(statement.on_duplicate_key_update(changed), rows)


def last_uses(calls: Iterable[Record]) -> Iterator[Record]:
    """The last use of each key among calls: rows of `ApiKeyUse`, in the order of keys."""
    last: dict[int, tuple[int, str]] = {}
    for call in calls:
        key, at_us = call["key_id"], call["at_us"]
        if key is not None and at_us >= last.get(key, (0, ""))[0]:
            last[key] = (at_us, call["sent"].get("address", ""))
    for key, (at_us, address) in sorted(last.items()):
        yield {"key_id": key, "last_at_us": at_us, "address": address}


def _keep_bodies(session: Session, new: Iterable[Record], bodies: Mapping[str, tuple[Record, Record]]) -> None:
    """Keep what came with calls that were new."""
    if bodies:
        known = {call["call_id"] for call in new}
        rows = [
            {"call_id": name, "at_us": call["at_us"], "sent": kept.get("sent"), "answered": kept.get("answered")}
            for name, (call, kept) in bodies.items()
            if name in known
        ]
        if rows:
            session.execute(upsert(CallBodies).prefix_with("IGNORE"), rows)


def set_aside(session: Session, repeats: Sequence[Record], now: datetime) -> int:
    """Keep what repeats say otherwise than what is recorded, once for each thing said; returns how many say so."""
    known = {
        c.call_id: c for c in session.scalars(select(Call).where(Call.call_id.in_({r["call_id"] for r in repeats})))
    }
    rows = []
    for repeat in repeats:
        recorded = known.get(repeat["call_id"])
        differs = {
            name: [getattr(recorded, name, None), said]
            for name, said in repeat.items()
            if _plain(getattr(recorded, name, None)) != _plain(said)
        }
        if differs:
            rows.append(
                {
                    "call_id": repeat["call_id"],
                    "digest": sha256(_plain(repeat)).hexdigest(),
                    "seen_at": now,
                    "source": repeat["source"],
                    "differs": differs,
                }
            )
    if rows:
        session.execute(upsert(SetAside).prefix_with("IGNORE"), rows)
    return len(rows)


def _plain(value: Any) -> bytes:
    return orjson.dumps(value, option=orjson.OPT_SORT_KEYS)


_COLUMNS = tuple(column.name for column in Call.__table__.columns)
_HEAD = f"INSERT INTO `call` ({', '.join(f'`{name}`' for name in _COLUMNS)}) VALUES "


def _insert(session: Session, calls: Sequence[Record]) -> None:
    """One statement with every value written out: half the price of bound parameters at 26 columns a call."""
    rows = ",".join(f"({','.join(_literal(call[name]) for name in _COLUMNS)})" for call in calls)
    session.connection().exec_driver_sql((_HEAD + rows).replace("%", "%%"))


def _literal(value: Any) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, int):
        return str(int(value))
    if isinstance(value, Decimal):
        return f"{value:f}"
    text = value if isinstance(value, str) else orjson.dumps(value).decode()
    return f"'{escape_string(text)}'"


class Sums:
    """The sums of calls by hour and by day, and what quotas counted, as rows of the seven tables that keep them."""

    def __init__(self) -> None:
        self._usage: dict[tuple[Any, ...], list[Any]] = {}
        self._outcomes: dict[tuple[Any, ...], list[Any]] = {}
        self._verdicts: dict[tuple[Any, ...], list[Any]] = {}
        self._answers: dict[tuple[Any, ...], list[Any]] = {}
        self._quotas: dict[tuple[str, str, int], list[Any]] = {}
        self._last_us = 0

    def add(self, calls: Iterable[Record]) -> None:
        """Count calls in."""
        for call in calls:
            self.count(call)

    def count(self, call: Record, calls: int = 1) -> None:
        """Count a call in, or so many of one hour that are alike, given as one with their sums."""
        hour = call["at_us"] // HOUR * HOUR
        consumer, verdict = call["consumer_id"] or 0, call["verdict"]
        self._verdicts.setdefault((hour, consumer, call["product_id"] or 0, verdict), [0])[0] += calls
        cell = self._outcomes.setdefault((hour, *_outcome(call)), [0, 0, 0])
        cell[0] += calls
        cell[1] += call["bytes_in"]
        cell[2] += call["bytes_out"]
        # How another gateway's back ends answered says nothing of ours.
        ours = call.get("outside_id") is None
        if ours and verdict != "refused" and call["environment"] == "live" and call["operation_id"]:
            self._answers.setdefault(_answer(call), [0])[0] += calls
        self.count_units(call, calls)
        self._last_us = max(self._last_us, call["at_us"])
        for scope, (subject, begin, end, units) in call.get("counted", {}).items():
            count = self._quotas.setdefault((scope, subject, begin), [end, Decimal(0)])
            count[1] += Decimal(units)

    def count_units(self, call: Record, calls: int) -> None:
        """Count the units of so many calls that are alike, given as one with their sums; of -1, take them back."""
        hour = call["at_us"] // HOUR * HOUR
        sign = 1 if calls > 0 else -1
        # What was counted of a stranger's call is on the call alone: it is charged to nobody.
        for meter_id, units in call["units"].items() if call.get("subscription_id") else ():
            key = (
                hour,
                call["subscription_id"],
                call["stay_id"],
                call["key_id"] or 0,
                call["operation_id"],
                int(meter_id),
            )
            sums = self._usage.setdefault(key, [0, Decimal(0)])
            sums[0] += calls
            sums[1] += sign * Decimal(units)

    def rows(self) -> Iterator[tuple[Any, list[Record], tuple[str, ...]]]:
        """Each table with its rows and the columns that are sums."""
        # A day's usage leaves out key and operation, a day's verdicts the product.
        days = _by_day(self._usage, (1, 2, 5)), _by_day(self._verdicts, (1, 3))
        for table, cells in (
            (HourlyUsage, self._usage),
            (HourlyOutcomes, self._outcomes),
            (HourlyVerdicts, self._verdicts),
            (DailyUsage, days[0]),
            (DailyVerdicts, days[1]),
            (DailyAnswers, self._answers),
        ):
            columns = [column.name for column in table.__table__.columns]
            keys = len(list(table.__table__.primary_key))
            rows = [dict(zip(columns, (*key, *sums), strict=True)) for key, sums in sorted(cells.items())]
            yield table, rows, tuple(columns[keys:])
        yield QuotaCount, list(self._quota_rows()), ("units",)

    def _quota_rows(self) -> Iterator[Record]:
        """Counts of windows that may still be open; in order, so that two writers never wait for each other."""
        made = {
            digest(scope, subject, str(begin)): {
                "scope_place": digest(scope),
                "scope": scope,
                "subject": subject,
                "begin_us": begin,
                "end_us": end,
                "units": units,
            }
            for (scope, subject, begin), (end, units) in self._quotas.items()
            if end > self._last_us - DAY
        }
        for place in sorted(made):
            yield {"place": place, **made[place]}


def _outcome(call: Record) -> tuple[Any, ...]:
    """Who made a call and what became of it, as the sums of hours tell it."""
    return (
        call["operation_id"] or 0,
        call["consumer_id"] or 0,
        call["application_id"] or 0,
        call["key_id"] or 0,
        call["environment"],
        call["verdict"],
        call["refused_by"] or "",
        call["status"],
    )


def _answer(call: Record) -> tuple[int, int, int, int]:
    """Day, operation, 1 where the API failed, and the band of how long it took."""
    took = max(0, call["took_us"] - call["wait_us"])
    return call["at_us"] // DAY * DAY, call["operation_id"], int(failed(call["status"])), band_of(took)


def _by_day(hours: dict[tuple[Any, ...], list[Any]], kept: tuple[int, ...]) -> dict[tuple[Any, ...], list[Any]]:
    """Hourly cells added up by UTC day and those parts of their keys that are kept."""
    days: dict[tuple[Any, ...], list[Any]] = {}
    for key, sums in hours.items():
        place = (key[0] // DAY * DAY, *(key[n] for n in kept))
        before = days.get(place)
        days[place] = list(sums) if before is None else [a + b for a, b in zip(before, sums, strict=True)]
    return days


def _add_to_sums(session: Session, calls: Iterable[Record]) -> None:
    sums = Sums()
    sums.add(calls)
    add_sums(session, sums)


def add_sums(to: Session | Connection, sums: Sums) -> None:
    """Add sums to those that are kept."""
    for table, rows, summed in sums.rows():
        add(to, table, rows, summed)


def add(to: Session | Connection, table: Any, rows: Sequence[Record], summed: Sequence[str]) -> None:
    """Add rows of sums to those that are there: the columns named in `summed` are added up. Every value is written out,
    as for calls."""
    if not rows:
        return
    names = tuple(rows[0])
    head = f"INSERT INTO `{table.__tablename__}` ({', '.join(f'`{name}`' for name in names)}) VALUES "
    tail = " ON DUPLICATE KEY UPDATE " + ", ".join(f"`{name}` = `{name}` + VALUES(`{name}`)" for name in summed)
    connection = to if isinstance(to, Connection) else to.connection()
    for start in range(0, len(rows), CHUNK):
        values = ",".join([f"({','.join(map(_literal, row.values()))})" for row in rows[start : start + CHUNK]])
        connection.exec_driver_sql((head + values + tail).replace("%", "%%"))
