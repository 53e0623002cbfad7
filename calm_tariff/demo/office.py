"""The demo's office at a moment of its story."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from calm_tariff.demo.scenario import STAFF
from calm_tariff.services.base.context import Actor, Context


@dataclass(frozen=True, slots=True)
class DemoOffice:
    """The context at a moment of the story, as one of its people."""

    ctx: Context
    start: datetime

    def on(self, day: float, who: str, hour: int = 10) -> Context:
        """The context on a day of the story, acting as a member of staff by first name."""
        moment = min(self.start + timedelta(days=day, hours=hour), self.ctx.now)
        roles = next(roles for _, name, roles in STAFF if name == who)
        return replace(self.ctx, actor=Actor(who, frozenset(roles)), clock=lambda: moment)
