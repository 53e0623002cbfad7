"""What people read about moves of a subscription."""

from __future__ import annotations

from datetime import date


def move_in_words(kind: str, offer: str, to: str | None, last: date | None) -> str:
    """A move of a subscription (core.moves), made now, or in force once the local day `last` is over. A change of plan
    that is to no other one ends a trial of it, and what is taken back was to come."""
    after = "" if last is None else f" after {last:%-d %B %Y}"
    if kind == "change plan":
        return f"{offer} becomes {to}{after}" if to else f"{offer} goes on with its charges{after}"
    if kind == "take back":
        return f"{offer} goes on as it is"
    if kind == "end":
        return f"{offer} has ended" if last is None else f"{offer} ends with {last:%-d %B %Y}"
    return f"{offer} is paused" if kind == "pause" else f"{offer} goes on"


def consequences_in_words(kind: str, plan: str | None, last: date | None, *, trial: bool, anew: bool) -> list[str]:
    """What a move brings with it besides its charges; `plan`, `last` and `kind` as in `move_in_words`. `trial`: one
    runs; `anew`: allowances start anew over a move of plan."""
    if kind == "pause":
        return ["Calls are refused within a second. A day that ends paused is not charged."]
    if kind == "resume":
        return ["Calls are served within a second. Allowances count on where they were."]
    if kind == "end" and last is None:
        return ["Calls are refused within a second. What is due stands on the invoice of this month."]
    if kind == "end":
        day = f"{last:%-d %B %Y}"
        return [f"Calls are served until the end of {day}. What is due then stands on the invoice of that month."]
    if last is not None:
        return []
    counts = "starts anew" if anew else "counts on where both plans have it"
    so = "The trial is over with it." if trial else f"What was used of an allowance {counts}."
    return [f"Today counts as a day of {plan}.", so]
