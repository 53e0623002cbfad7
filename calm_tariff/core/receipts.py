"""What a decision receipt keeps of each limit that was checked."""

from __future__ import annotations

from calm_tariff.core.limiter import Decision
from calm_tariff.core.limits import Quota

Rung = list[str | bool | int | None]


def ladder(decision: Decision) -> list[Rung]:
    """For each limit in the order tested: name, refused, wait in µs, left, used in the window (quotas)."""
    return [
        [
            check.limit.name,
            check.refused,
            check.wait_us,
            None if check.left is None else str(check.left),
            str(check.state[1]) if isinstance(check.limit, Quota) and check.state else None,
        ]
        for check in decision.checks
    ]
