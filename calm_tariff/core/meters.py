"""What counts: a meter turns a recorded call into units (docs/arithmetic.md, section 2)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from decimal import ROUND_HALF_UP, Decimal
from functools import lru_cache
from typing import Literal, NamedTuple

from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Cost, Costs

Measure = Literal["calls", "bytes_out", "bytes_in", "reported"]
Environment = Literal["live", "sandbox"]
ENVIRONMENTS: tuple[Environment, ...] = ("live", "sandbox")
CREDENTIALS = ("key", "basic", "client", "token", "certificate")
PLACES = Decimal("0.000001")
# A reported number: plain digits, at most as many as are kept. Neither signs nor exponents nor separators.
_NUMBER = re.compile(r"[0-9]{1,15}(?:\.[0-9]{1,30})?")


@dataclass(frozen=True, slots=True, kw_only=True)
class Meter:
    """A filter and a measure. `outcomes` are status classes (`2xx`) or codes (`404`); empty means all.
    `credentials` are the kinds of credential whose calls count; empty means all."""

    key: str
    measure: Measure = "calls"
    operations: frozenset[str] = frozenset()
    outcomes: tuple[str, ...] = ()
    environments: tuple[Environment, ...] = ("live",)
    header: str | None = None
    credentials: tuple[str, ...] = ()


class Outcome(NamedTuple):
    """What is known of a call once its response is in. A tuple, because it is made per call."""

    operation: str
    status: int
    bytes_in: int = 0
    bytes_out: int = 0
    environment: Environment = "live"
    reported: str | None = None
    credential: str = CREDENTIALS[0]


@dataclass(frozen=True, slots=True)
class Reading:
    """Units counted: calls, megabytes, or what was reported. `flagged` marks a reported number that was
    absent or malformed, counted as 0."""

    units: Decimal
    flagged: bool = False


NOTHING = Reading(Decimal(0))
_ONE = Reading(Decimal(1))


def covers(meter: Meter, operation: str, environment: Environment = "live", credential: str = CREDENTIALS[0]) -> bool:
    """Whether calls of an operation can count, before the outcome is known."""
    return (
        operation in meter.operations
        and environment in meter.environments
        and (not meter.credentials or credential in meter.credentials)
    )


@lru_cache(maxsize=10_000)
def costs_of(meters: tuple[Meter, ...], operation: str, environment: Environment, credential: str) -> Costs:
    """What a call costs the quotas of these meters until its response is in (docs/arithmetic.md, section 1): 1 where
    calls are counted, 0 for bytes and reported numbers, nothing where the meter cannot count it. What depends on
    the response is put right afterwards. The same for equal arguments."""
    made: dict[str | None, Cost] = {None: Cost(1)}
    for meter in meters:
        if covers(meter, operation, environment, credential):
            calls = meter.measure == "calls"
            made[meter.key] = Cost(1 if calls else 0, settles=not calls or bool(meter.outcomes))
    return Costs(made)


def outcome_counts(meter: Meter, status: int) -> bool:
    """Whether a response with this status counts."""
    return not meter.outcomes or f"{status // 100}xx" in meter.outcomes or str(status) in meter.outcomes


def reading(meter: Meter, outcome: Outcome) -> Reading | None:
    """What the meter makes of a served call; None where it does not count at all."""
    if not covers(meter, outcome.operation, outcome.environment, outcome.credential) or not outcome_counts(
        meter, outcome.status
    ):
        return None
    if meter.measure == "calls":
        return _ONE
    if meter.measure == "bytes_out":
        return Reading(megabytes(outcome.bytes_out))
    if meter.measure == "bytes_in":
        return Reading(megabytes(outcome.bytes_in))
    return _reported(outcome.reported)


def megabytes(size: int) -> Decimal:
    """Bytes as units: a megabyte is 10⁶ bytes, so six places hold every byte."""
    return Decimal(size).scaleb(-6)


def _reported(text: str | None) -> Reading:
    given = (text or "").strip()
    if not _NUMBER.fullmatch(given):
        return Reading(Decimal(0), flagged=True)
    units = Decimal(given).quantize(PLACES, ROUND_HALF_UP)
    return Reading(units)


def check(meter: Meter) -> None:
    """Raise `Invalid`, naming the field, for a meter that could never count."""
    if not meter.operations:
        raise Invalid("choose at least one operation", "operations")
    if not meter.environments:
        raise Invalid("choose at least one environment", "environments")
    for kind in meter.credentials:
        if kind not in CREDENTIALS:
            raise Invalid(f"{kind!r} is no kind of credential; known are {', '.join(CREDENTIALS)}", "credentials")
    if (meter.measure == "reported") != bool(meter.header):
        raise Invalid("a reported number is read from one response header", "header")
    for outcome in meter.outcomes:
        is_class = outcome in ("1xx", "2xx", "3xx", "4xx", "5xx")
        if not is_class and not (outcome.isdigit() and 100 <= int(outcome) <= 599):
            raise Invalid(f"{outcome!r} is neither a status class such as 2xx nor a status code", "outcomes")
