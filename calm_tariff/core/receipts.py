"""What a decision receipt keeps of each limit that was checked."""

from __future__ import annotations

from calm_tariff.core.limiter import Check, Decision
from calm_tariff.core.limits import Quota

Rung = list[str | bool | int | list[str] | None]


def ladder(decision: Decision) -> list[Rung]:
    """For each limit in the order tested: name, refused, wait in µs, left, and of a quota what was used in the
    window before the call and after it."""
    return [
        [
            check.limit.name,
            check.refused,
            check.wait_us,
            None if check.left is None else str(check.left),
            _used(check, decision.verdict != "refused") if isinstance(check.limit, Quota) else None,
        ]
        for check in decision.checks
    ]


def _used(check: Check, taken: bool) -> list[str]:
    after = check.state[1] if check.state else 0
    return [str(after - check.cost if taken else after), str(after)]
