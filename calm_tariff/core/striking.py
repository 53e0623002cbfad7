"""Striking out: recorded calls are taken back and no longer count; they stay recorded, marked.

Source: docs/arithmetic.md, section 6.
"""

from __future__ import annotations

from collections.abc import Sequence

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.outside_calls import LONGEST_ID
from calm_tariff.core.sentences.listing import so_many

# So many calls are struck out at once, and so many are named one by one.
MOST_CALLS, MOST_NAMED = 50_000, 1000


def named(source: str, ids: Sequence[str]) -> tuple[str, ...]:
    """Calls that are named one by one, each once. Raises `Invalid`, naming the field."""
    if ids and not source:
        raise Invalid("say which source calls them so", "source")
    if len(ids) > MOST_NAMED:
        raise Invalid(f"at most {MOST_NAMED:,} calls can be named at once", "ids")
    if any(not each or len(each) > LONGEST_ID for each in ids):
        raise Invalid(f"must be from 1 to {LONGEST_ID} characters long", "ids")
    return tuple(dict.fromkeys(ids))


def must_be_as_shown(found: int, shown: int) -> None:
    """Raise `Conflict` where other calls are meant by now than somebody has seen, none at all, or too many."""
    must_fit(found)
    if found == 0:
        raise Conflict("no call is meant that counts", "calls")
    if found != shown:
        raise Conflict(f"{so_many(shown, 'call')} shown, and {found:,} meant by now: look again", "calls")


def must_fit(found: int) -> None:
    """Raise `Conflict` where more calls are meant than are struck out at once."""
    if found > MOST_CALLS:
        raise Conflict(f"more than {MOST_CALLS:,} calls are meant: choose a shorter stretch", "calls")
