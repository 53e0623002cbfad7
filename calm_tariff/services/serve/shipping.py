"""Moving journal segments into the database: each call once, whatever dies when."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from datetime import timedelta
from functools import partial
from pathlib import Path
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, lazyload

from calm_tariff.core.stays import Stay, belongs
from calm_tariff.core.terms import PlanTerms, free_units
from calm_tariff.formats.journal import closed_segments, read_segment
from calm_tariff.formats.values import read
from calm_tariff.services.admit.subscriptions import ask_for_end
from calm_tariff.services.admit.timelines import stay_of
from calm_tariff.services.base import retrying, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.subscriptions import Stay as Stored
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.serve.call_writer import record

log = logging.getLogger("calm_tariff.shipping")
# What several segments tell of a trial is looked at together.
_TOGETHER = timedelta(seconds=1)


@dataclass(frozen=True, slots=True)
class Shipment:
    """What one pass moved: segments, calls that were new, lines that could not be read."""

    segments: int
    calls: int
    damaged: int


def ship(ctx: Context, folder: Path, gateway: str = "*") -> Shipment:
    """Ship every closed segment under `folder`, or of one gateway, oldest first.

    A segment is deleted only after its commit.

    A segment met again after a crash between commit and deletion adds nothing: its calls are there.
    """
    segments = calls = damaged = 0
    for path in closed_segments(folder, gateway):
        shipped = retrying.again(partial(ship_segment, ctx, path))
        if shipped is not None:
            segments += 1
            calls += shipped.calls
            damaged += shipped.damaged
    return Shipment(segments, calls, damaged)


def ship_segment(ctx: Context, path: Path) -> Shipment | None:
    """Ship one segment; None where another shipper has taken it meanwhile."""
    with ctx.transaction() as session:
        # One shipper at a time, until the commit, and no stay changes meanwhile.
        stamps.hold(session, ctx, stamps.SHIPPING)
        try:
            segment = read_segment(path)
        except FileNotFoundError:
            return None
        for subscription in assign(session, segment.records):
            ask_for_end(session, ctx, subscription, ctx.now + _TOGETHER)
        new = record(session, segment.records, ctx.now)
    if segment.damaged:
        log.warning("segment %s has %d lines that are no records", path.name, segment.damaged)
        path.rename(path.with_suffix(".damaged"))
    else:
        path.unlink(missing_ok=True)
    return Shipment(1, new, segment.damaged)


def assign(session: Session, records: list[dict[str, Any]]) -> set[int]:
    """Put let-through calls under the stay in force at their instant, where the gateway knew another one. The
    subscriptions are returned whose trial these calls may have used up.

    It decides by all it knows, those stays to come included; but a move, say, is known to it only some tenths of a
    second later. The revision decided under stays on the record. Raises nothing: a record may say less of its call.
    """
    let_in = [r for r in records if r.get("subscription_id") and r.get("stay_id") and r.get("verdict") != "refused"]
    if not let_in:
        return set()
    known = _stays(session, {r["subscription_id"] for r in let_in})
    for call in let_in:
        decided_under = call["stay_id"]
        stay = belongs(known.get(call["subscription_id"], ()), decided_under, call["at_us"])
        if stay is None:
            call["remarks"] = [*call.get("remarks", ()), "served when its subscription had ended, and not charged"]
            call["stay_id"], call["units"] = None, {}
        elif stay.id != decided_under:
            call["stay_id"] = stay.id
            call["remarks"] = [
                *call.get("remarks", ()),
                "decided under terms that had just ended; charged by those in force at its instant",
            ]
    return {
        subscription
        for subscription, stays in known.items()
        if any(stay.trial and stay.units is not None and not stay.spent for stay in stays)
    }


def _stays(session: Session, subscriptions: set[int]) -> dict[int, tuple[Stay, ...]]:
    query = (
        select(Stored, Subscription.ended_at)
        .join(Subscription, Subscription.id == Stored.subscription_id)
        .where(Stored.subscription_id.in_(subscriptions))
        .options(lazyload(Stored.revision))
        .order_by(Stored.subscription_id, Stored.start_at, Stored.id)
    )
    found: dict[int, tuple[Stay, ...]] = {}
    for stored, ended in session.execute(query):
        units = free_units(read(PlanTerms, stored.revision.terms)) if stored.trial else None
        made = stay_of(stored, ended, units)
        found[stored.subscription_id] = (*found.get(stored.subscription_id, ()), made)
    return found
