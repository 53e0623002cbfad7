"""A tide back end: predictions by the harmonic method for made-up stations."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta


@dataclass(frozen=True, slots=True)
class Station:
    """A made-up tide station. Constituents: speed in degrees an hour, amplitude in metres, phase in degrees."""

    id: str
    name: str
    mean_level: float
    constituents: tuple[tuple[float, float, float], ...]


_SPEEDS = (28.9841042, 30.0, 28.4397295, 15.0410686, 13.9430356)
_NAMES = ("Larkmouth Bar", "Saltgrave Quay", "Gull Stairs", "Thornhithe", "Upper Pellow", "Wrack Point")


def _station(place: int, name: str) -> Station:
    amplitudes = [a * (0.8 + 0.07 * place) for a in (1.32, 0.46, 0.28, 0.11, 0.08)]
    phases = [(37 * place + 53 * n) % 360 for n in range(5)]
    return Station(f"lm-{place + 1:02d}", name, 2.1 + 0.1 * place, tuple(zip(_SPEEDS, amplitudes, phases, strict=True)))


STATIONS = {s.id: s for s in (_station(place, name) for place, name in enumerate(_NAMES))}
_EPOCH = datetime(2026, 1, 1, tzinfo=UTC)


def height(station: Station, at: datetime) -> float:
    """The water's height in metres at a moment."""
    hours = (at - _EPOCH) / timedelta(hours=1)
    waves = (a * math.cos(math.radians(speed * hours - phase)) for speed, a, phase in station.constituents)
    return round(station.mean_level + sum(waves), 3)


def predictions(station: Station, start: datetime, hours: int, step_minutes: int) -> list[dict[str, object]]:
    """Heights from `start` on, every `step_minutes`."""
    count = hours * 60 // step_minutes + 1
    moments = (start + timedelta(minutes=step_minutes * n) for n in range(count))
    return [{"at": m.isoformat(), "height_m": height(station, m)} for m in moments]


def extremes(station: Station, start: datetime, days: int) -> list[dict[str, object]]:
    """High and low water in the days from `start` on, to five minutes."""
    moments = [start.replace(second=0, microsecond=0) + timedelta(minutes=5 * n) for n in range(days * 288 + 2)]
    heights = [height(station, m) for m in moments]
    found: list[dict[str, object]] = []
    for n in range(1, len(moments) - 1):
        before, here, after = heights[n - 1 : n + 2]
        if before < here >= after or before > here <= after:
            found.append({"at": moments[n].isoformat(), "height_m": here, "kind": "high" if here > before else "low"})
    return found
