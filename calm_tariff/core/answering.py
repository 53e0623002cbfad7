"""How well an API has answered: the share of its calls that did not fail, and how soon so many of a hundred were
answered.

Durations are counted in bands, each (1 + e) / (1 - e) as long as the one before, e being 1% (computation, section 9):
its middle is within 1% of all that it holds, and sketches of this kind add up. What is told is the end of a band, so
that "95 of 100 within 39.1 ms" is true of the calls exactly.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping
from decimal import ROUND_FLOOR, Decimal
from fractions import Fraction

_ERROR = Fraction(1, 100)
_FIRST_US, _LAST_US = 100, 100_000_000


def _ends() -> Iterator[int]:
    """Whole microseconds from a tenth of a millisecond to a hundred seconds, rounded down; exact to the last digit."""
    step = (1 + _ERROR) / (1 - _ERROR)
    end = Fraction(_FIRST_US)
    while end < _LAST_US:
        yield int(end)
        # What is left off beyond twelve places adds up to less than a microsecond.
        end = Fraction(int(end * step * 10**12), 10**12)
    yield _LAST_US


# The ends of the bands, in microseconds; what took longer is in one more.
BAND_ENDS = tuple(_ends())
# Of fewer calls nothing is said: one of them would say too much.
LEAST_CALLS = 20
_PLACES = Decimal("0.01")


def band_of(took_us: int) -> int:
    """The band of a duration in microseconds: the first whose end it does not pass."""
    return bisect_left(BAND_ENDS, took_us)


def failed(status: int) -> bool:
    """Whether an answer is the API's failure (5xx, RFC 9110) and not its caller's."""
    return status >= 500


def available(calls: int, failures: int) -> Decimal:
    """The percentage of calls that did not fail, to two places and never more than it was."""
    return (Decimal(calls - failures) * 100 / calls).quantize(_PLACES, ROUND_FLOOR)


def within_us(bands: Mapping[int, int], percent: int) -> int | None:
    """The least band end, in microseconds, within which at least `percent` of the calls of all bands were answered;
    None where they took longer than any."""
    calls, counted = sum(bands.values()), 0
    for band, here in sorted(bands.items()):
        counted += here
        if counted * 100 >= percent * calls:
            return BAND_ENDS[band] if band < len(BAND_ENDS) else None
    return None
