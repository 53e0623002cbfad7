"""Compose: products, groups of consumers, and tariff sheets."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from decimal import Decimal
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.asking import Asking
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import Asked, all_of, as_csv
from calm_tariff.formats.markdown import html
from calm_tariff.services import consequences, groups, house_limits, plans, products, publishing, tariff_sheet
from calm_tariff.services.consequences import Consequences, Estimate
from calm_tariff.services.context import ROLES
from calm_tariff.services.groups import GroupView
from calm_tariff.services.house_limits import WhatACallerGets
from calm_tariff.services.products import (
    AccessRoute,
    CredentialsTyped,
    ProductSummary,
    ProductTyped,
    ProductView,
    TermsVersion,
)
from calm_tariff.services.publishing import Existing, Revision
from calm_tariff.services.tariff_sheet import Sheet
from calm_tariff.store.paging import Page, listed

router = APIRouter(tags=["products"])


class ProductIn(BaseModel):
    """A product. With groups, only their consumers see it. With `moves_anew`, allowances start anew over a move to
    another plan; otherwise they go on."""

    name: str = Field(max_length=200)
    description: str = ""
    contact: str = ""
    terms_of_use: str = ""
    access_route: AccessRoute = "reviewed"
    groups: list[int] = []
    operations: list[int]
    moves_anew: bool = False

    def typed(self) -> ProductTyped:
        """As the service takes it."""
        return ProductTyped(
            self.name.strip(), self.description, self.terms_of_use, self.access_route, self.operations,
            self.contact, self.groups, self.moves_anew,
        )  # fmt: skip


class CredentialsIn(BaseModel):
    """How callers of a product prove who they are; see `services.products.CredentialsTyped`."""

    kinds: list[str] = ["key"]
    key_header: str = Field(default="X-API-Key", max_length=100)
    key_query: str = Field(default="", max_length=100)
    older_fields: bool = False


class ProductNameIn(BaseModel):
    """A name for a copy."""

    name: str = Field(max_length=200)


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


class WithdrawIn(BaseModel):
    """Where those still on a plan go."""

    move_to: int | None = None


class DraftIn(BaseModel):
    """Terms, in the shape of `core.terms.PlanTerms`."""

    terms: dict[str, Any]


class PublishIn(BaseModel):
    """How to publish: what happens to those already on the plan, and on which day for `at date`. `editions` names
    every plan with a draft by its id, with the edition the publisher has seen."""

    editions: dict[int, int]
    existing: Existing = "keep"
    note: str = ""
    on: date | None = None


class MarkdownIn(BaseModel):
    """Markdown to show."""

    text: str = Field(max_length=100_000)


class GroupIn(BaseModel):
    """A group to make."""

    name: str = Field(max_length=200)


class MembersIn(BaseModel):
    """The consumers of a group, by id."""

    consumers: list[int]


@router.get("/groups")
def list_groups(ctx: Asking) -> list[GroupView]:
    """All groups of consumers."""
    return groups.everything(ctx)


@router.post("/groups", status_code=201)
def create_group(ctx: Asking, group: GroupIn) -> GroupView:
    """A new group."""
    return groups.create(ctx, group.name)


@router.put("/groups/{group_id}")
def set_members(ctx: Asking, group_id: int, members: MembersIn) -> GroupView:
    """Make a group of just these consumers."""
    return groups.set_members(ctx, group_id, members.consumers)


@router.post("/markdown")
def read_markdown(ctx: Asking, text: MarkdownIn) -> str:
    """Markdown as the portal will show it, as HTML."""
    ctx.actor.must_be(*ROLES)
    return html(text.text)


@router.put("/products/{product_id}/credentials")
def set_credentials(ctx: Asking, product_id: int, edition: Edition, typed: CredentialsIn) -> ProductView:
    """Say how callers of a product prove who they are."""
    return products.set_credentials(ctx, product_id, edition, CredentialsTyped(**typed.model_dump()))


_ORDERS: dict[str, Callable[[ProductSummary], Any]] = {
    "name": lambda row: row.name,
    "access": lambda row: row.access_route,
    "subscriptions": lambda row: row.subscriptions,
}


@router.get("/products")
def list_products(ctx: Asking, asked: Asked) -> Page[ProductSummary]:
    """All products. Orders: name, access, subscriptions."""
    return listed(products.summaries(ctx), asked, _ORDERS)


@router.get("/products.csv", response_class=Response)
def export_products(ctx: Asking, asked: Asked) -> Response:
    """The same as CSV."""
    return as_csv(
        "products", ProductSummary, all_of(lambda part: listed(products.summaries(ctx), part, _ORDERS), asked)
    )


@router.post("/products", status_code=201)
def create_product(ctx: Asking, product: ProductIn) -> ProductView:
    """A new product."""
    return products.create(ctx, product.typed())


@router.get("/products/{product_id}")
def read_product(ctx: Asking, product_id: int) -> ProductView:
    """One product."""
    return products.one(ctx, product_id)


@router.put("/products/{product_id}")
def save_product(ctx: Asking, product_id: int, edition: Edition, product: ProductIn) -> ProductView:
    """Change a product."""
    return products.save(ctx, product_id, edition, product.typed())


@router.post("/products/{product_id}/clone", status_code=201)
def clone_product(ctx: Asking, product_id: int, wanted: ProductNameIn) -> ProductView:
    """A new product with the same content and its plans as drafts."""
    return products.clone(ctx, product_id, wanted.name)


@router.get("/products/{product_id}/terms-of-use")
def list_terms_of_use(ctx: Asking, product_id: int) -> list[TermsVersion]:
    """All versions of the terms of use, newest first."""
    return products.terms_versions(ctx, product_id)


@router.get("/products/{product_id}/sheet")
def read_sheet(ctx: Asking, product_id: int) -> Sheet:
    """The tariff sheet."""
    return tariff_sheet.sheet(ctx, product_id)


@router.get("/products/{product_id}/consequences")
def read_consequences(ctx: Asking, product_id: int) -> Consequences:
    """The sheet's margin."""
    return consequences.consequences(ctx, product_id)


@router.get("/products/{product_id}/estimate")
def read_estimate(ctx: Asking, product_id: int, meter: str, units: Decimal) -> list[Estimate]:
    """A whole month at a quantity of one meter on every plan, as drafted."""
    return consequences.estimate(ctx, product_id, meter, units)


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


@router.post("/plans/{plan_id}/withdraw")
def withdraw_plan(ctx: Asking, plan_id: int, wanted: WithdrawIn) -> Sheet:
    """End a plan, moving whoever is on it."""
    return plans.withdraw(ctx, plan_id, wanted.move_to)


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
    return house_limits.what_a_caller_gets(ctx, plan_id, draft)


@router.post("/products/{product_id}/publish")
def publish(ctx: Asking, product_id: int, how: PublishIn) -> Sheet:
    """Publish every draft of the sheet."""
    return publishing.publish(ctx, product_id, how.editions, how.existing, how.note, how.on)


@router.get("/revisions/{revision_id}")
def read_revision(ctx: Asking, revision_id: int) -> Revision:
    """A published revision."""
    return publishing.revision(ctx, revision_id)
