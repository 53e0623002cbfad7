"""Moving journal segments into the database: each call once, whatever dies when."""

from __future__ import annotations

import logging
from dataclasses import dataclass
from pathlib import Path

from calm_tariff.formats.journal import closed_segments, read_segment
from calm_tariff.services import stamps
from calm_tariff.services.context import Context
from calm_tariff.store.call_writer import record

log = logging.getLogger("calm_tariff.shipping")


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
        shipped = ship_segment(ctx, path)
        if shipped is not None:
            segments += 1
            calls += shipped.calls
            damaged += shipped.damaged
    return Shipment(segments, calls, damaged)


def ship_segment(ctx: Context, path: Path) -> Shipment | None:
    """Ship one segment; None where another shipper has taken it meanwhile."""
    with ctx.transaction() as session:
        stamps.hold(session, ctx, "shipping")  # one shipper at a time, until the commit
        try:
            segment = read_segment(path)
        except FileNotFoundError:
            return None
        new = record(session, segment.records, ctx.now)
    if segment.damaged:
        log.warning("segment %s has %d lines that are no records", path.name, segment.damaged)
        path.rename(path.with_suffix(".damaged"))
    else:
        path.unlink(missing_ok=True)
    return Shipment(1, new, segment.damaged)
