"""Tariff sheets: plans, their drafts, and their revisions."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.services.compose import effective_limits
from calm_tariff.services.compose.effective_limits import WhatACallerGets
from calm_tariff.services.compose.sheet import estimates, plans, publishing, tariff_sheet
from calm_tariff.services.compose.sheet.estimates import Estimate
from calm_tariff.services.compose.sheet.publishing import Revision
from calm_tariff.services.compose.sheet.tariff_sheet import Sheet

router = APIRouter(tags=["products"], route_class=Again)


class PlanIn(BaseModel):
    """A plan to add; `like` is a plan of the same sheet whose terms it begins with."""

    name: str = Field(max_length=60)
    like: int | None = None


class PlanNameIn(BaseModel):
    """Another name for a plan."""

    name: str = Field(max_length=60)


class OrderIn(BaseModel):
    """Every plan of a sheet, in the order wanted."""

    order: list[int]


class SeenByIn(BaseModel):
    """Groups by id; none means everybody."""

    groups: list[int]


class DraftIn(BaseModel):
    """Terms, in the shape of `core.terms.PlanTerms`."""

    terms: dict[str, Any]


@router.get("/products/{product_id}/sheet")
def read_sheet(ctx: Asking, product_id: int) -> Sheet:
    """The tariff sheet."""
    return tariff_sheet.sheet(ctx, product_id)


@router.get("/products/{product_id}/estimate")
def read_estimate(ctx: Asking, product_id: int, meter: str, units: Decimal) -> list[Estimate]:
    """A whole month at a quantity of one meter on every plan, as drafted."""
    return estimates.estimate(ctx, product_id, meter, units)


@router.post("/products/{product_id}/plans", status_code=201)
def add_plan(ctx: Asking, product_id: int, plan: PlanIn) -> Sheet:
    """A new plan, as a draft."""
    return plans.add(ctx, product_id, plan.name, plan.like)


@router.put("/products/{product_id}/order")
def reorder_plans(ctx: Asking, product_id: int, wanted: OrderIn) -> Sheet:
    """Put the plans into another order."""
    return plans.reorder(ctx, product_id, wanted.order)


@router.put("/plans/{plan_id}/name")
def rename_plan(ctx: Asking, plan_id: int, wanted: PlanNameIn) -> Sheet:
    """Give a plan another name."""
    return plans.rename(ctx, plan_id, wanted.name)


@router.put("/plans/{plan_id}/groups")
def show_plan_to(ctx: Asking, plan_id: int, wanted: SeenByIn) -> Sheet:
    """Let only these groups see a plan."""
    return plans.show_to(ctx, plan_id, wanted.groups)


@router.post("/plans/{plan_id}/close")
def close_plan(ctx: Asking, plan_id: int) -> Sheet:
    """Sell a plan to nobody new."""
    return plans.close(ctx, plan_id)


@router.post("/plans/{plan_id}/reopen")
def reopen_plan(ctx: Asking, plan_id: int) -> Sheet:
    """Sell a closed plan again."""
    return plans.reopen(ctx, plan_id)


@router.delete("/plans/{plan_id}")
def remove_plan(ctx: Asking, plan_id: int) -> Sheet:
    """Take a plan that was never published off the sheet."""
    return plans.remove(ctx, plan_id)


@router.put("/plans/{plan_id}/draft")
def save_draft(ctx: Asking, plan_id: int, edition: Edition, draft: DraftIn) -> Sheet:
    """Keep a plan's terms as its draft."""
    return tariff_sheet.save_draft(ctx, plan_id, edition, draft.terms)


@router.delete("/plans/{plan_id}/draft")
def discard_draft(ctx: Asking, plan_id: int) -> Sheet:
    """Go back to the live terms."""
    return tariff_sheet.discard_draft(ctx, plan_id)


@router.get("/plans/{plan_id}/effective")
def read_effective(ctx: Asking, plan_id: int, draft: bool = False) -> WhatACallerGets:
    """Every limit that applies to each operation, with the layer it comes from."""
    return effective_limits.what_a_caller_gets(ctx, plan_id, draft)


@router.get("/revisions/{revision_id}")
def read_revision(ctx: Asking, revision_id: int) -> Revision:
    """A published revision."""
    return publishing.revision(ctx, revision_id)
