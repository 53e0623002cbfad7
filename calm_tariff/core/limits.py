"""The kinds of limit a plan can promise, as immutable values (docs/arithmetic.md, section 1)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal, NamedTuple

from calm_tariff.core.errors import Invalid
from calm_tariff.core.periods import SECOND, Aligned, Every
from calm_tariff.core.refusals import REASONS

Units = int | Decimal
WhenSpent = Literal["refuse", "charge", "warn"]
Verdict = Literal["served", "held", "refused"]

# A header's name (RFC 9110, section 5.1), and those whose values are secrets.
HEADER = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+")
SECRET_HEADERS = frozenset(
    {"authorization", "client-cert", "client-cert-chain", "cookie", "proxy-authorization", "x-api-key"}
)

TRIAL_NAME = "Units of the trial"
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
    across_consumers: bool = False
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
    across_consumers: bool = False
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
    across_consumers: bool = False
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
    across_consumers: bool = False
    meter: str | None = None
    kind: Literal["quota"] = "quota"


@dataclass(frozen=True, slots=True, kw_only=True)
class TrialQuota(Quota):
    """What a trial gives for nothing, for as long as it lasts, whatever `every` says. A call that finds it spent
    is the first after the trial."""


Limit = Rate | Window | Pace | Quota


def trial_quota(meter: str, units: Units) -> TrialQuota:
    """The quota that a trial of so many units is."""
    return TrialQuota(
        name=TRIAL_NAME,
        counted_per="subscription",
        units=units,
        every="month",
        aligned="subscription",
        when_spent="refuse",
        meter=meter,
    )


class Cost(NamedTuple):
    """What a call takes from a quota. `settles` marks units known only once the response is in: `units` is then
    what is reserved, and the call is refused only where nothing is left."""

    units: Units
    settles: bool = False


@dataclass(frozen=True, slots=True, eq=False)
class Costs:
    """What a call takes from each quota, by its meter; `None` stands for quotas without one, which count calls.

    A quota whose meter is not here does not count the call at all, and does not apply to it. Told apart by
    identity, so that what follows from it can be kept beside it.
    """

    of: Mapping[str | None, Cost]


class Call(NamedTuple):
    """One call to decide on. A tuple, because it is made per call.

    `units` is its cost against quotas, and `settles` whether that is put right later (see `Cost`), where `costs`
    does not say it for each meter.
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
    costs: Costs | None = None


def cost_of(limit: Quota, call: Call) -> Cost:
    """What a call takes from a quota that applies to it."""
    return Cost(call.units, call.settles) if call.costs is None else call.costs.of[limit.meter]


def check(limit: Limit, where: str = "") -> None:
    """Raise `Invalid`, naming the field, for a limit whose numbers make no sense."""
    at = f"{where}." if where else ""
    if not limit.name:
        raise Invalid("must not be empty", f"{at}name")
    per = limit.counted_per
    kind, _, carried = per.partition(":")
    if per not in (*COUNTED_PER, "address") and not (kind in ("claim", "header") and carried):
        raise Invalid(f"{per!r} is not something calls can be counted per", f"{at}counted_per")
    if kind == "header" and not HEADER.fullmatch(carried):
        raise Invalid(f"{carried!r} is no name of a header", f"{at}counted_per")
    if kind == "header" and carried.lower() in SECRET_HEADERS:
        raise Invalid(f"{carried} holds a secret, which must not be kept: count per key", f"{at}counted_per")
    for field in ("calls", "per_seconds", "burst", "units"):
        value = getattr(limit, field, None)
        if value is not None and value <= 0:
            raise Invalid("must be above 0", f"{at}{field}")
    if isinstance(limit, Pace) and limit.max_wait_ms < 0:
        raise Invalid("must not be below 0", f"{at}max_wait_ms")


def check_name(name: str, where: str) -> None:
    """Raise `Invalid`, naming the field, for a name that means something else on a receipt: the units of a trial, or
    why calls are refused before any limit."""
    if name == TRIAL_NAME:
        raise Invalid("is what a trial's units are called on receipts; choose another", where)
    if name in REASONS:
        raise Invalid("is why calls are refused before any limit is asked; choose another", where)


def subject_of(limit: Limit, call: Call) -> str:
    """Whose count a call adds to (docs/arithmetic.md, section 1).

    A value that the call carries counts for its consumer alone, unless the limit says that it counts across
    consumers; a call without the value is counted for its key.
    """
    per = limit.counted_per
    if per == "everyone":
        return ""
    if per in COUNTED_PER:
        return str(getattr(call, per))
    value = (call.values or {}).get(per)
    if value is None:
        return f"key {call.key}"
    return f"= {value}" if limit.across_consumers else f"{call.consumer} = {value}"


def memory_us(limit: Limit) -> int:
    """How far back, in µs, a call can still matter to a limit that is no quota."""
    if isinstance(limit, Rate):
        return -(-limit.burst * limit.per_seconds * SECOND // limit.calls)
    if isinstance(limit, Pace):
        return limit.max_wait_ms * 1000 + -(-limit.per_seconds * SECOND // limit.calls)
    return 0 if isinstance(limit, Quota) else limit.per_seconds * SECOND
