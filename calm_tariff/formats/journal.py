"""The journal: one JSON object a line for each decided call, in segments on local disk.

A segment is written under `NAME.open` and renamed to `NAME.jsonl` once closed. Fields are those of
a recorded call; a last line without its line end was cut off by a crash and is not a record.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import orjson

from calm_tariff.core.layers import Layer
from calm_tariff.core.limiter import Decision
from calm_tariff.core.limits import Limit
from calm_tariff.core.receipts import ladder
from calm_tariff.formats.values import write

OPEN, CLOSED = ".open", ".jsonl"


@dataclass(frozen=True, slots=True)
class Segment:
    """The records of a closed segment; `damaged` counts lines that could not be read."""

    path: Path
    records: list[dict[str, Any]]
    damaged: int


def line(record: dict[str, Any]) -> bytes:
    """A record as a journal line."""
    return orjson.dumps(record, option=orjson.OPT_APPEND_NEWLINE)


def rungs(decision: Decision, above: Mapping[str, Layer]) -> list[Any]:
    """What the receipt keeps of each check; of a limit that is no plan's (named in `above` with its layer)
    the limit itself with that layer, too, because no revision keeps it."""
    kept: list[Any] = ladder(decision)
    if above:
        for rung, check in zip(kept, decision.checks, strict=True):
            if check.limit.name in above:
                rung += [_whole(check.limit), above[check.limit.name]]
    return kept


@lru_cache(maxsize=256)
def _whole(limit: Limit) -> Any:
    return write(replace(limit, applies_to=None))


def closed_segments(folder: Path, gateway: str = "*") -> Iterator[Path]:
    """Closed segments under a folder of gateways' journals, or of one of them, oldest first for each gateway."""
    yield from sorted(folder.glob(f"{gateway}/*{CLOSED}"))


def read_segment(path: Path) -> Segment:
    """The records of one segment."""
    records, damaged = [], 0
    for raw in path.read_bytes().split(b"\n"):
        if not raw:
            continue
        try:
            records.append(orjson.loads(raw))
        except orjson.JSONDecodeError:
            damaged += 1
    return Segment(path, records, damaged)
