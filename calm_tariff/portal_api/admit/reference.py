"""The reference of what products sell, and the search over it."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit.portals import reference
from calm_tariff.services.admit.portals.reference import Found, OperationLine, OperationView

router = APIRouter(route_class=Again)


@router.get("/products/{slug}/operations")
def operations(ctx: Asking, slug: str) -> list[OperationLine]:
    """What a product sells."""
    return reference.operations(ctx, slug)


@router.get("/products/{slug}/operations/{operation_id}")
def operation(ctx: Asking, slug: str, operation_id: int) -> OperationView:
    """One operation in full."""
    return reference.operation(ctx, slug, operation_id)


@router.get("/operations")
def search(ctx: Asking, words: Annotated[str, Query(max_length=200)] = "") -> list[Found]:
    """The portal's operations of which all these words are said."""
    return reference.search(ctx, words)
