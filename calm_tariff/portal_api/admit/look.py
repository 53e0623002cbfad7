"""A portal's further pages, and its pictures."""

from __future__ import annotations

from fastapi import APIRouter, Path
from fastapi.responses import Response

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking, Here
from calm_tariff.services.admit.portals import look
from calm_tariff.services.admit.portals.look import PageView

router = APIRouter(route_class=Again)


@router.get("/pages/{prefix}")
def page(ctx: Asking, portal: Here, prefix: str) -> PageView:
    """A further page of the portal."""
    return look.page(ctx, portal.id, prefix)


@router.get("/pictures/{digest}.png", response_class=Response, responses={200: {"content": {"image/png": {}}}})
def picture(ctx: Asking, portal: Here, digest: str = Path(pattern="^[0-9a-f]{64}$")) -> Response:
    """The portal's logo or icon. What an address shows never changes."""
    kept = f"public, max-age={int(look.KEPT.total_seconds())}, immutable"
    return Response(look.picture(ctx, portal.id, digest), media_type="image/png", headers={"cache-control": kept})
