"""What stands between an empty installation and its first served call, in order."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Literal, get_args

Step = Literal["settings", "api", "product", "plan", "key", "call"]
STEPS: tuple[Step, ...] = get_args(Step)


@dataclass(frozen=True, slots=True, kw_only=True)
class Walk:
    """A step, whether it is done, and whether it is the next: the first that is not."""

    step: Step
    done: bool
    next: bool


def walk(done: Collection[Step]) -> list[Walk]:
    """The steps as far as they are done; none once a call was served, whatever else is there."""
    if "call" in done:
        return []
    first = next(step for step in STEPS if step not in done)
    return [Walk(step=step, done=step in done, next=step == first) for step in STEPS]
