"""Products."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.routes import Route
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.formats.markdown import html
from calm_tariff.services.base.context import ROLES
from calm_tariff.services.compose import products, terms_versions
from calm_tariff.services.compose.products import (
    TARGET_DAYS,
    CredentialsTyped,
    ProductSummary,
    ProductTyped,
    ProductView,
)
from calm_tariff.services.compose.terms_versions import TermsVersion
from calm_tariff.store.base.paging import Page, listed

router = APIRouter(tags=["products"], route_class=Again)

REVIEWED = Route(otherwise="reviewed")


class ProductIn(BaseModel):
    """A product. Its `route` says how requests for its plans are decided, within `target_days` working days, if any.
    With groups, only their consumers see it. With `moves_anew`, allowances start anew over a move to
    another plan; otherwise they go on. With a `strangers_plan` it is sold open: calls without a credential are let in,
    counted for their address under that plan's limits, and charged to nobody."""

    name: str = Field(max_length=200)
    description: str = ""
    contact: str = ""
    terms_of_use: str = ""
    route: Route = REVIEWED
    groups: list[int] = []
    operations: list[int]
    moves_anew: bool = False
    strangers_plan: int | None = None
    subscribing_site: str = Field(default="", max_length=200)
    target_days: int | None = TARGET_DAYS

    def typed(self) -> ProductTyped:
        """As the service takes it."""
        return ProductTyped(
            name=self.name.strip(),
            description=self.description,
            terms_of_use=self.terms_of_use,
            route=self.route,
            target_days=self.target_days,
            operations=self.operations,
            contact=self.contact,
            groups=self.groups,
            moves_anew=self.moves_anew,
            strangers_plan=self.strangers_plan,
            subscribing_site=self.subscribing_site.strip(),
        )


class CredentialsIn(BaseModel):
    """How callers of a product prove who they are; see `services.products.CredentialsTyped`."""

    kinds: list[str] = ["key"]
    key_header: str = Field(default="X-API-Key", max_length=100)
    key_query: str = Field(default="", max_length=100)
    older_fields: bool = False


class ProductNameIn(BaseModel):
    """A name for a copy."""

    name: str = Field(max_length=200)


class MarkdownIn(BaseModel):
    """Markdown to show."""

    text: str = Field(max_length=100_000)


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
    "access": lambda row: row.access,
    "subscriptions": lambda row: row.subscriptions,
}


@router.get("/products")
def list_products(ctx: Asking, asked: Paged) -> Page[ProductSummary]:
    """All products. Orders: name, access, subscriptions."""
    return listed(products.summaries(ctx), asked, _ORDERS)


@router.get("/products.csv", response_class=Response)
def export_products(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv(
        "products", ProductSummary, all_of(lambda part: listed(products.summaries(ctx), part, _ORDERS), asked)
    )


@router.post("/products", status_code=201)
def create_product(ctx: Asking, product: ProductIn) -> ProductView:
    """A new product. Where it says no target, it has the house's."""
    typed = product.typed()
    if "target_days" not in product.model_fields_set:
        typed = replace(typed, target_days=products.target_days_of_the_house(ctx))
    return products.create(ctx, typed)


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
    return terms_versions.of_product(ctx, product_id)
