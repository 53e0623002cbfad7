"""Publishing to subscribers, and withdrawing a plan they are on."""

from __future__ import annotations

from datetime import date

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import carrying_over
from calm_tariff.services.admit.carrying_over import Existing
from calm_tariff.services.compose.sheet.tariff_sheet import Sheet

router = APIRouter(tags=["products"], route_class=Again)


class WithdrawIn(BaseModel):
    """Where those still on a plan go."""

    move_to: int | None = None


class PublishIn(BaseModel):
    """How to publish: what happens to those already on the plan, and on which day for `at date`. `editions` names
    every plan with a draft by its id, with the edition the publisher has seen."""

    editions: dict[int, int]
    existing: Existing = "keep"
    note: str = ""
    on: date | None = None


@router.post("/plans/{plan_id}/withdraw")
def withdraw_plan(ctx: Asking, plan_id: int, wanted: WithdrawIn) -> Sheet:
    """End a plan, moving whoever is on it."""
    return carrying_over.withdraw(ctx, plan_id, wanted.move_to)


@router.post("/products/{product_id}/publish")
def publish(ctx: Asking, product_id: int, how: PublishIn) -> Sheet:
    """Publish every draft of the sheet."""
    return carrying_over.publish(ctx, product_id, how.editions, how.existing, note=how.note, on=how.on)
