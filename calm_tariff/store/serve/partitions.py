"""Monthly partitions of recorded calls (by UTC months), with a last one that takes what lies beyond."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from zoneinfo import ZoneInfo

from sqlalchemy import text
from sqlalchemy.orm import Session

from calm_tariff.core.periods import day_start, month_step

UTC_ZONE = ZoneInfo("UTC")


def ensure(session: Session, months: Sequence[date]) -> list[str]:
    """Split partitions for these months off the last one; returns the names of those made."""
    rows = session.execute(
        text(
            "SELECT partition_name FROM information_schema.partitions "
            "WHERE table_schema = DATABASE() AND table_name = 'call' AND partition_name IS NOT NULL"
        )
    )
    there = {name for (name,) in rows}
    made = []
    for month in sorted(months):
        name = f"p{month:%Y%m}"
        if name in there or any(known.startswith("p2") and known > name for known in there):
            continue
        end = day_start(month_step(month, 1), UTC_ZONE)
        session.execute(
            text(
                f"ALTER TABLE `call` REORGANIZE PARTITION beyond INTO "
                f"(PARTITION {name} VALUES LESS THAN ({end}), PARTITION beyond VALUES LESS THAN (MAXVALUE))"
            )
        )
        there.add(name)
        made.append(name)
    return made
