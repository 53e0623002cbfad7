"""A move of a subscription, as it is typed."""

from __future__ import annotations

from pydantic import BaseModel

from calm_tariff.core.moves import Kind, When
from calm_tariff.edge.payment import PaymentIn
from calm_tariff.services.admit.desk.asking import MoveAsked


class MoveIn(BaseModel):
    """A move: to the plan `plan_id`, a pause, the end of one, or the end; now or later, which is the end of the trial
    that runs, and else of the month. `purpose` is for whoever decides, where somebody does; `payment` is how the plan
    will be paid, where it can cost something and the organisation has not said that yet."""

    kind: Kind
    when: When = "now"
    plan_id: int | None = None
    purpose: str = ""
    payment: PaymentIn | None = None

    def value(self) -> MoveAsked:
        """What is asked for."""
        return MoveAsked(
            kind=self.kind,
            when=self.when,
            plan_id=self.plan_id,
            purpose=self.purpose,
            payment=self.payment.value() if self.payment else None,
        )
