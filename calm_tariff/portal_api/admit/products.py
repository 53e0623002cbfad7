"""Products with a plan on sale, and their terms of use."""

from __future__ import annotations

from fastapi import APIRouter

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import terms_of_use
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.admit.portals.storefront import ProductLine, Storefront
from calm_tariff.services.admit.terms_of_use import TermsToAccept

router = APIRouter(route_class=Again)


@router.get("/products")
def products(ctx: Asking) -> list[ProductLine]:
    """Products with a plan on sale."""
    return storefront.products(ctx)


@router.get("/products/{slug}")
def product(ctx: Asking, slug: str, units: int = 10_000) -> Storefront:
    """One product, its plans priced for a month of `units`."""
    return storefront.product(ctx, slug, units)


@router.get("/terms-to-accept")
def terms_to_accept(ctx: Asking) -> list[TermsToAccept]:
    """New terms of use of one's subscriptions that nobody here has accepted yet."""
    return terms_of_use.to_accept(ctx)


@router.post("/products/{slug}/terms", status_code=204)
def accept_terms(ctx: Asking, slug: str) -> None:
    """Accept the newest terms of use of a product."""
    terms_of_use.accept_terms(ctx, slug)
