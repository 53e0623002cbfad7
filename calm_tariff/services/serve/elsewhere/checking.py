"""Checking a file of usage: what of it can be used, what is recorded already, and what it would come to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime
from decimal import Decimal
from typing import Any
from zoneinfo import ZoneInfo

from sqlalchemy import delete, update
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.core.lifecycles import USAGE_FILE, move
from calm_tariff.core.periods import MINUTE, local_day
from calm_tariff.formats import outside_calls
from calm_tariff.formats.outside_calls import Layout
from calm_tariff.formats.values import read
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, zone_of
from calm_tariff.services.serve.elsewhere import parts, places, sorting
from calm_tariff.services.serve.elsewhere.files import MOST_UNUSABLE, subject
from calm_tariff.services.serve.elsewhere.placing import Place, Placed
from calm_tariff.store.serve import outside_queries
from calm_tariff.store.serve.outside_usage import UsageFilePart, UsageFileRow

# Every zone's days begin on one of these.
_QUARTER = 15 * MINUTE


@dataclass(slots=True, eq=False)
class Alike:
    """Calls of one place and status in one month: how many, and what they come to by meter id."""

    place: Place
    month: str
    calls: int = 0
    units: dict[str, Decimal] = field(default_factory=dict)

    def count(self, units: Mapping[str, str]) -> None:
        """Count a call in."""
        self.calls += 1
        if self.place.depends or self.calls == 1:
            for meter, each in units.items():
                self.units[meter] = self.units.get(meter, Decimal(0)) + Decimal(each)

    @property
    def summed(self) -> dict[str, Decimal]:
        """What they come to together."""
        times = 1 if self.place.depends else self.calls
        return {meter: each * times for meter, each in self.units.items()}


@dataclass(slots=True)
class Tally:
    """What calls come to by consumer and month of a zone, counted where they are alike."""

    where: ZoneInfo
    _alike: dict[tuple[Place, int, bool, str], Alike] = field(default_factory=dict)
    _months: dict[int, str] = field(default_factory=dict)

    def alike(self, placed: Placed) -> Alike:
        """Those that a call is counted with."""
        call = placed.call
        quarter = call.at_us // _QUARTER
        month = self._months.get(quarter)
        if month is None:
            day = local_day(call.at_us, self.where)
            month = self._months[quarter] = day.replace(day=1).isoformat()
        key = (placed.place, call.status, call.refused, month)
        found = self._alike.get(key)
        if found is None:
            found = self._alike[key] = Alike(placed.place, month)
        return found

    def told(self) -> list[dict[str, Any]]:
        """By consumer and month: calls, and units by meter id."""
        found: dict[tuple[str, int], tuple[list[int], dict[str, Decimal]]] = {}
        for alike in self._alike.values():
            if alike.calls:
                count, sums = found.setdefault((alike.month, alike.place.whose.consumer_id), ([0], {}))
                count[0] += alike.calls
                for meter, units in alike.summed.items():
                    sums[meter] = sums.get(meter, Decimal(0)) + units
        return [
            {"month": month, "consumer": consumer, "calls": count[0], "units": {m: str(u) for m, u in sums.items()}}
            for (month, consumer), (count, sums) in sorted(found.items())
        ]


class _Rows:
    """The usable rows of a part, as little of each as is needed to tell them apart and to count them."""

    def __init__(self, tally: Tally) -> None:
        self._tally = tally
        self.ids: list[str] = []
        self.alike: list[Alike] = []
        self.units: list[Mapping[str, str]] = []
        self.sources: set[str] = set()

    def take(self, placed: Placed) -> None:
        """Take a row in."""
        self.ids.append(placed.call_id)
        self.alike.append(self._tally.alike(placed))
        self.units.append(placed.place.units(placed.call))
        self.sources.add(placed.call.source)


def check(ctx: Context, usage_file_id: int) -> None:
    """Look at every row. Begun anew where an earlier check was broken off: it takes seconds, and keeps in mind which
    calls the file has had."""
    with ctx.transaction() as session:
        held = parts.held_at(session, usage_file_id, "checking")
        if held is None:
            return
        session.execute(delete(UsageFileRow).where(UsageFileRow.file_id == usage_file_id))
        held.parts_done = held.rows = held.usable = held.known = held.unusable = 0
        held.sources, held.touched_at = {}, ctx.now
        begun, count, layout = held.touched_at, held.parts, read(Layout, held.layout)
        known, tally = places.now(session, ctx), Tally(zone_of(session))
    had: set[int] = set()
    sources: dict[str, int] = {}
    for nth in range(count):
        try:
            part = parts.part(ctx, usage_file_id, nth)
            if part is None:
                return  # forgotten, or checked by another
            rows = _Rows(tally)
            unusable = sorting.sort(outside_calls.rows(part, layout), known, rows.take)
        except Invalid as error:
            _refuse(ctx, usage_file_id, begun, str(error))
            return
        with ctx.transaction() as session:
            held = parts.held_at(session, usage_file_id, "checking")
            if held is None or held.touched_at != begun:
                return  # another has begun it anew
            new = _count_new(session, rows, sources, had)
            held.rows += len(rows.ids) + len(unusable)
            held.usable += new
            held.known += len(rows.ids) - new
            held.unusable += sorting.keep(session, usage_file_id, part, unusable)
            held.parts_done, held.sources = nth + 1, dict(sources)
            fresh = update(UsageFilePart).where(UsageFilePart.file_id == usage_file_id, UsageFilePart.nth == nth)
            session.execute(fresh.values(fresh=new == len(rows.ids)))
            many = held.unusable > MOST_UNUSABLE
        if many:
            _refuse(ctx, usage_file_id, begun, f"more than {MOST_UNUSABLE:,} of its rows cannot be used")
            return
    with ctx.transaction() as session:
        held = parts.held_at(session, usage_file_id, "checking")
        if held is not None and held.touched_at == begun:
            held.stage, held.tally = move(USAGE_FILE, "the file", held.stage, "checked"), tally.told()


def _count_new(session: Session, rows: _Rows, sources: dict[str, int], had: set[int]) -> int:
    """Count those of a part's calls that are not recorded and that no row before had; returns how many. Sources that
    were not met before are added, with what recorded calls of them last."""
    sources.update(outside_queries.last_written(session, rows.sources - sources.keys()))
    there: set[str] = set()
    if any(sources[name] != outside_queries.NOTHING for name in rows.sources):
        there = outside_queries.known(session, rows.ids)
    new = 0
    for call_id, alike, units in zip(rows.ids, rows.alike, rows.units, strict=True):
        number = int(call_id[:16], 16)
        if number not in had:
            had.add(number)
            if call_id not in there:
                alike.count(units)
                new += 1
    return new


def _refuse(ctx: Context, usage_file_id: int, begun: datetime, why: str) -> None:
    with ctx.transaction() as session:
        held = parts.held_at(session, usage_file_id, "checking")
        if held is not None and held.touched_at == begun:
            held.stage, held.why = move(USAGE_FILE, "the file", held.stage, "refused"), why
            auditing.note(session, ctx, "refused a file of usage", subject(held), why=why)
