"""Recording calls of another gateway, each source and id once: those that are new are metered and summed as our own, a
repeat that says something else is set aside.

Source: docs/arithmetic.md, sections 2 and 6.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.services.admit.subscriptions import ask_for_end
from calm_tariff.services.base import stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve.elsewhere.placing import Place, Placed, Places, record_of, said_of
from calm_tariff.store.serve import call_writer, outside_queries
from calm_tariff.store.serve.fresh_calls import Alike, FreshCalls

# What several parts of a file tell of a trial is looked at together.
_TOGETHER = timedelta(seconds=1)


@dataclass(frozen=True, slots=True)
class Recorded:
    """How many calls were new, how many were recorded already, and how many of these said something else."""

    new: int = 0
    known: int = 0
    differing: int = 0


def turn(session: Session, ctx: Context, sources: Iterable[str], file_id: int) -> dict[str, int]:
    """Have one's turn to record calls of these sources, until the transaction ends: nobody else does, and no stay
    changes meanwhile. Returns what recorded calls of each last."""
    before = outside_queries.hold_sources(session, sources, file_id, ctx.now)
    stamps.hold(session, ctx, stamps.SHIPPING)
    return dict(before)


def record(session: Session, ctx: Context, calls: Sequence[Placed], file_id: int) -> Recorded:
    """Record those that are new, in the caller's `turn`."""
    there = outside_queries.known(session, [placed.call_id for placed in calls])
    new: dict[str, Placed] = {}
    repeats: list[dict[str, Any]] = []
    for placed in calls:
        if placed.call_id in there or placed.call_id in new:
            repeats.append(said_of(placed))
        else:
            new[placed.call_id] = placed
    recorded = call_writer.record(session, [record_of(placed, file_id) for placed in new.values()], ctx.now)
    differing = call_writer.set_aside(session, repeats, ctx.now) if repeats else 0
    return Recorded(recorded, len(repeats), differing)


def end_trials(session: Session, ctx: Context, known: Places, subscriptions: Iterable[int]) -> None:
    """Have it looked whether these calls have used up trials."""
    for subscription in sorted(known.trials.intersection(subscriptions)):
        ask_for_end(session, ctx, subscription, ctx.now + _TOGETHER)


class Prepared:
    """Calls of which none is recorded, made ready before anybody's turn: as a file of rows and with their sums."""

    def __init__(self, path: Path) -> None:
        self._fresh = FreshCalls(path)
        self._alike: dict[tuple[Place, int, bool], Alike] = {}
        self.sources: set[str] = set()
        self.subscriptions: set[int] = set()

    def add(self, placed: Placed) -> None:
        """Add a call."""
        call, place = placed.call, placed.place
        key = (place, call.status, call.refused)
        alike = self._alike.get(key)
        if alike is None:
            record = record_of(placed, None)
            alike = self._alike[key] = Alike(record, None if place.depends else record["units"])
            self.subscriptions.add(place.grant.subscription_id)
        self.sources.add(call.source)
        self._fresh.add(alike, placed.call_id, call, record_of(placed, None) if place.depends else None)

    def load(self, session: Session, file_id: int) -> Recorded:
        """Record them, in the caller's turn, over a connection that may send files."""
        return Recorded(self._fresh.load(session, file_id))
