"""Counts rebuilt from what is recorded: the same as those that a gateway had."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from calm_tariff.gateway.restore import restored
from tests.gateway.simulated import Simulated
from tests.office import Office, terms

LIMITS: list[dict[str, Any]] = [
    {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": 3, "per_seconds": 10, "burst": 9},
    {"kind": "window", "name": "Rolling", "counted_per": "key", "calls": 12, "per_seconds": 60, "rolling": True},
    {
        "kind": "window",
        "name": "Fixed",
        "counted_per": "subscription",
        "calls": 99,
        "per_seconds": 60,
        "rolling": False,
    },
    {"kind": "pace", "name": "Pace", "counted_per": "key", "calls": 50, "per_seconds": 1, "max_wait_ms": 900},
    terms()["limits"][1],
]


@pytest.fixture
def here(office: Office, tmp_path: Path):
    office.draft("Ketch", {**terms(), "limits": LIMITS})
    office.publish("keep")
    office.consumers.append(office.admit("Anglers", "Ketch"))
    made = Simulated(office, tmp_path)
    yield made
    made.close()


def fire(here: Simulated, seconds: int = 40) -> list[int]:
    """Calls of two keys under new terms and one under the old, closer together than the limits let in."""
    one, other = here.office.consumers[-1], here.office.consumers[0]
    statuses = []
    for n in range(seconds):
        here.at(here.office.clock.now + timedelta(milliseconds=700))
        statuses.append(here.call(one.secret, ("/stations/lm-01", "/stations")[n % 2]).status)
        statuses.append(here.call(other.secret).status)
    return statuses


def test_a_gateway_that_begins_counts_as_the_one_that_ended(here: Simulated) -> None:
    statuses = fire(here)
    assert set(statuses) == {200, 429}  # refused ones are recorded, and count nothing
    before = dict(here.gateway.counters.counts)  # type: ignore[attr-defined]
    here.ship()
    after = restored(here.office.ctx, here.gateway.snapshot, here.now_us)

    def said(counts: dict[tuple[str, str], Any]) -> dict[tuple[str, str], str]:
        return {key: str(list(state) if hasattr(state, "append") else state) for key, state in counts.items()}

    assert said(after) == said(before)


def test_what_is_recorded_only_is_counted(here: Simulated) -> None:
    fire(here, 5)
    assert restored(here.office.ctx, here.gateway.snapshot, here.now_us) == {}  # not shipped yet
    here.ship()
    assert restored(here.office.ctx, here.gateway.snapshot, here.now_us) != {}


def test_a_limit_that_came_into_force_meanwhile_does_not_count_what_was_decided_without_it(here: Simulated) -> None:
    fire(here, 5)
    here.ship()
    added = [*LIMITS, {**LIMITS[1], "name": "New", "calls": 2, "counted_per": "subscription"}]
    here.office.draft("Ketch", {**terms(), "limits": added})
    here.office.publish("next period")
    here.at(here.office.clock.now + timedelta(seconds=1))
    names = {scope for scope, _ in restored(here.office.ctx, here.gateway.snapshot, here.now_us)}
    assert not any("New" in name for name in names) and any("Rolling" in name for name in names)
