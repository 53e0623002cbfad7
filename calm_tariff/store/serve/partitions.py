"""Monthly partitions of recorded calls (by UTC months), with a last one, `beyond`, that takes what lies after them.

They are made when an installation starts, before anything runs that records calls, for two years to come. A server that
dies in the midst of splitting a partition can lose it (it renames files over each other); so `beyond` is dropped while
it is empty, and added again behind new months: neither touches what holds calls.
"""

from __future__ import annotations

from datetime import date
from zoneinfo import ZoneInfo

from sqlalchemy import Connection, text

from calm_tariff.core.periods import day_start, month_step

UTC_ZONE = ZoneInfo("UTC")
# So many months before the first start have partitions of their own, for a history that is brought in.
BEFORE, AHEAD = 4, 24
_BEYOND = "beyond"
_KNOWN = text(
    "SELECT partition_name FROM information_schema.partitions "
    "WHERE table_schema = DATABASE() AND table_name = 'call' AND partition_name IS NOT NULL"
)
_HELD = text("SELECT 1 FROM `call` PARTITION (beyond) LIMIT 1")


def ensure(connection: Connection, today: date) -> list[str]:
    """Have partitions for the months to come; returns the names of those made. None are while `beyond` holds calls:
    an installation that ran for years without a start keeps those together."""
    there = set(connection.scalars(_KNOWN))
    last = max(there - {_BEYOND}, default="")
    first = today.replace(day=1)
    months = [month_step(first, n) for n in range(-BEFORE, AHEAD + 1)]
    wanted = [month for month in months if _name(month) > last]
    if _BEYOND in there:
        if not wanted or connection.scalar(_HELD) is not None:
            return []
        if len(there) > 1:  # the only one cannot be dropped
            connection.execute(text(f"ALTER TABLE `call` DROP PARTITION {_BEYOND}"))
    made = [f"PARTITION {_name(m)} VALUES LESS THAN ({day_start(month_step(m, 1), UTC_ZONE)})" for m in wanted]
    parts = ", ".join([*made, f"PARTITION {_BEYOND} VALUES LESS THAN (MAXVALUE)"])
    alone = there == {_BEYOND}
    how = f"PARTITION BY RANGE (at_us) ({parts})" if alone else f"ADD PARTITION ({parts})"
    connection.execute(text(f"ALTER TABLE `call` {how}"))
    return [_name(month) for month in wanted]


def _name(month: date) -> str:
    return f"p{month:%Y%m}"
