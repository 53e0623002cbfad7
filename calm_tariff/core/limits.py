"""The kinds of limit a plan can promise, as immutable values (computation.md, section 1)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal, NamedTuple

from calm_tariff.core.errors import Invalid
from calm_tariff.core.periods import Aligned, Every

Units = int | Decimal
WhenSpent = Literal["refuse", "charge", "warn"]
Verdict = Literal["served", "held", "refused"]

# A header's name (RFC 9110, section 5.1), and those whose values are secrets.
_TOKEN = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
_SECRET = frozenset({"authorization", "cookie", "proxy-authorization", "x-api-key"})

COUNTED_PER = ("key", "application", "consumer", "subscription", "everyone")


@dataclass(frozen=True, slots=True, kw_only=True)
class Rate:
    """`calls` per `per_seconds` with at most `burst` saved up."""

    name: str
    counted_per: str
    calls: int
    per_seconds: int
    burst: int
    applies_to: tuple[str, ...] | None = None
    kind: Literal["rate"] = "rate"


@dataclass(frozen=True, slots=True, kw_only=True)
class Window:
    """At most `calls` in any window of `per_seconds`: fixed to the epoch, or rolling."""

    name: str
    counted_per: str
    calls: int
    per_seconds: int
    rolling: bool
    applies_to: tuple[str, ...] | None = None
    kind: Literal["window"] = "window"


@dataclass(frozen=True, slots=True, kw_only=True)
class Pace:
    """Even spacing of `calls` per `per_seconds`; a call early by up to `max_wait_ms` is held."""

    name: str
    counted_per: str
    calls: int
    per_seconds: int
    max_wait_ms: int
    applies_to: tuple[str, ...] | None = None
    kind: Literal["pace"] = "pace"


@dataclass(frozen=True, slots=True, kw_only=True)
class Quota:
    """An allowance of `units` for every window. `meter` names what is counted, where a plan says so."""

    name: str
    counted_per: str
    units: Units
    every: Every
    aligned: Aligned
    when_spent: WhenSpent
    applies_to: tuple[str, ...] | None = None
    meter: str | None = None
    kind: Literal["quota"] = "quota"


Limit = Rate | Window | Pace | Quota


class Call(NamedTuple):
    """One call to decide on. `units` is its cost against quotas. A tuple, because it is made per call.

    `settles` marks units known only once the response is in: `units` is then what is reserved, and
    the call is refused only where nothing is left.
    """

    at_us: int
    key: str
    application: str
    consumer: str
    subscription: str
    operation: str
    units: Units = 1
    values: dict[str, str] | None = None
    settles: bool = False


def check(limit: Limit, where: str = "") -> None:
    """Raise `Invalid`, naming the field, for a limit whose numbers make no sense."""
    at = f"{where}." if where else ""
    if not limit.name:
        raise Invalid("must not be empty", f"{at}name")
    per = limit.counted_per
    kind, _, carried = per.partition(":")
    if per not in (*COUNTED_PER, "address") and not (kind in ("claim", "header") and carried):
        raise Invalid(f"{per!r} is not something calls can be counted per", f"{at}counted_per")
    if kind == "header" and not _TOKEN.fullmatch(carried):
        raise Invalid(f"{carried!r} is no name of a header", f"{at}counted_per")
    if kind == "header" and carried.lower() in _SECRET:
        raise Invalid(f"{carried} holds a secret, which must not be kept: count per key", f"{at}counted_per")
    for field in ("calls", "per_seconds", "burst", "units"):
        value = getattr(limit, field, None)
        if value is not None and value <= 0:
            raise Invalid("must be above 0", f"{at}{field}")
    if isinstance(limit, Pace) and limit.max_wait_ms < 0:
        raise Invalid("must not be below 0", f"{at}max_wait_ms")


def subject_of(limit: Limit, call: Call) -> str:
    """Whose count a call adds to. Calls without the value that is counted per share one count, ''."""
    per = limit.counted_per
    if per == "everyone":
        return ""
    if per in COUNTED_PER:
        return str(getattr(call, per))
    return (call.values or {}).get(per, "")
