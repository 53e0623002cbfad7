"""Products with a plan on sale, and their terms of use."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Annotated

from fastapi import APIRouter, Query

from calm_tariff.core.errors import Invalid
from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import terms_of_use
from calm_tariff.services.admit.portals import estimator, storefront
from calm_tariff.services.admit.portals.estimator import Estimates
from calm_tariff.services.admit.portals.storefront import ProductLine, Storefront
from calm_tariff.services.admit.terms_of_use import TermsToAccept
from calm_tariff.services.compose.apis.release_notes import NoteShown

router = APIRouter(route_class=Again)
_UNITS = re.compile(r"[0-9]{1,13}(\.[0-9]{1,6})?")


@router.get("/products")
def products(ctx: Asking) -> list[ProductLine]:
    """Products with a plan on sale."""
    return storefront.products(ctx)


@router.get("/products/{slug}")
def product(ctx: Asking, slug: str) -> Storefront:
    """One product, its plans side by side."""
    return storefront.product(ctx, slug)


@router.get("/products/{slug}/release-notes")
def notes(ctx: Asking, slug: str) -> list[NoteShown]:
    """What was new in the versions that a product sells."""
    return storefront.release_notes_of(ctx, slug)


@router.get("/products/{slug}/estimate")
def estimate(
    ctx: Asking,
    slug: str,
    use: Annotated[list[str], Query(max_length=50)] = [],  # noqa: B006
    at_once: int = 1,
    along: str | None = None,
) -> Estimates:
    """What each plan costs at a use: `use` is a meter and its units of a month, as in forecast_calls:40000, once for
    each meter; `at_once` the most calls of one second; curves are over the meter `along`."""
    return estimator.estimates(ctx, slug, dict(map(_units, use)), at_once, along)


def _units(text: str) -> tuple[str, Decimal]:
    """A meter and its units. Raises `Invalid`."""
    key, _, units = text.rpartition(":")
    if not key or not _UNITS.fullmatch(units):
        raise Invalid(f"{text[:60]!r} is no meter with its units, such as forecast_calls:40000", "use")
    return key, Decimal(units)


@router.get("/terms-to-accept")
def terms_to_accept(ctx: Asking) -> list[TermsToAccept]:
    """New terms of use of one's subscriptions that nobody here has accepted yet."""
    return terms_of_use.to_accept(ctx)


@router.post("/products/{slug}/terms", status_code=204)
def accept_terms(ctx: Asking, slug: str) -> None:
    """Accept the newest terms of use of a product."""
    terms_of_use.accept_terms(ctx, slug)
