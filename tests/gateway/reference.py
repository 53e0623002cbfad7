"""A brute-force reference for limits, written from section 1 of docs/arithmetic.md alone.

It shares nothing with `calm_tariff.core`: fractions instead of integers, whole lists of calls instead of counts.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from fractions import Fraction
from typing import Any
from zoneinfo import ZoneInfo


@dataclass
class Reference:
    """Decides on calls in the order they come. A call is a dict of what it counts by, and its units."""

    limits: list[dict[str, Any]]
    zone: ZoneInfo
    last: int = 0
    counted: dict[tuple[int, Any], list[int]] = field(default_factory=dict)
    spent: dict[tuple[Any, ...], list[Any]] = field(default_factory=dict)
    buckets: dict[tuple[int, Any], tuple[Fraction, int]] = field(default_factory=dict)
    slots: dict[tuple[int, Any], Fraction] = field(default_factory=dict)

    def decide(self, at: int, call: Mapping[str, Any]) -> tuple[str, str | None, int]:
        """The verdict, what refused, and the wait in µs. An instant before the last one seen counts as that."""
        at = self.last = max(at, self.last)
        applying = [
            (n, limit)
            for n, limit in enumerate(self.limits)
            if "applies_to" not in limit or call["operation"] in limit["applies_to"]
        ]
        waits = [(limit["name"], self.wait(n, limit, at, call)) for n, limit in applying]
        for name, wait in waits:
            if wait is None:
                return "refused", name, 0
        for n, limit in applying:
            self.take(n, limit, at, call)
        longest = max((wait for _, wait in waits if wait is not None), default=Fraction(0))
        return ("held" if longest else "served"), None, math.ceil(longest)

    def wait(self, n: int, limit: dict[str, Any], at: int, call: Mapping[str, Any]) -> Fraction | None:
        """How long the limit lets the call wait; None where it refuses."""
        key = (n, self.subject(limit, call))
        kind = limit["kind"]
        if kind == "rate":
            return Fraction(0) if self.level(key, limit, at) >= 1 else None
        if kind == "pace":
            wait = max(Fraction(0), self.slots.get(key, Fraction(at)) - at)
            return wait if wait <= limit["max_wait_ms"] * 1000 else None
        if kind == "window":
            used = sum(1 for then in self.counted.get(key, []) if self.together(limit, then, at))
            return Fraction(0) if used + 1 <= limit["calls"] else None
        used = sum(self.spent.get((*key, self.window(limit["every"], at)), []))
        fits = used + call["units"] <= limit["units"] or limit["when_spent"] != "refuse"
        return Fraction(0) if fits else None

    def take(self, n: int, limit: dict[str, Any], at: int, call: Mapping[str, Any]) -> None:
        key = (n, self.subject(limit, call))
        if limit["kind"] == "rate":
            self.buckets[key] = (self.level(key, limit, at) - 1, at)
        elif limit["kind"] == "pace":
            apart = Fraction(limit["per_seconds"] * 1_000_000, limit["calls"])
            self.slots[key] = max(self.slots.get(key, Fraction(at)), Fraction(at)) + apart
        elif limit["kind"] == "window":
            self.counted.setdefault(key, []).append(at)
        else:
            self.spent.setdefault((*key, self.window(limit["every"], at)), []).append(call["units"])

    def level(self, key: tuple[int, Any], limit: dict[str, Any], at: int) -> Fraction:
        level, since = self.buckets.get(key, (Fraction(limit["burst"]), at))
        grown = level + Fraction((at - since) * limit["calls"], limit["per_seconds"] * 1_000_000)
        return min(Fraction(limit["burst"]), grown)

    def together(self, limit: dict[str, Any], then: int, at: int) -> bool:
        """Whether an earlier call counts in the window of a later one."""
        span = limit["per_seconds"] * 1_000_000
        return then > at - span if limit["rolling"] else then // span == at // span

    def window(self, every: str, at: int) -> Any:
        moment = datetime.fromtimestamp(0, self.zone) + timedelta(microseconds=at)
        local = moment.astimezone(self.zone)
        if every in ("hour", "minute"):
            return at // (3_600_000_000 if every == "hour" else 60_000_000)
        if every == "week":
            return local.date().isocalendar()[:2]
        return (local.year, local.month) if every == "month" else local.date()

    def subject(self, limit: dict[str, Any], call: Mapping[str, Any]) -> Any:
        per = limit["counted_per"]
        if per == "everyone":
            return None
        if per not in ("address",) and ":" not in per:
            return call[per]
        if per not in call:
            return "its key", call["key"]
        return "value", call["consumer"] if not limit.get("across_consumers") else None, call[per]
