"""The processes that run, and repeats they set aside."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.serve import instances, set_aside
from calm_tariff.services.serve.instances import GatewayHealth
from calm_tariff.services.serve.set_aside import SetAsideView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["observe"], route_class=Again)


@router.get("/health")
def gateway_health(ctx: Asking) -> GatewayHealth:
    """How every gateway and worker is, by what each last reported."""
    return instances.health(ctx)


@router.get("/set-aside")
def list_set_aside(ctx: Asking, asked: Paged) -> Page[SetAsideView]:
    """Repeats that say something else than what is recorded of their call, the newest first."""
    return set_aside.listed(ctx, asked)


@router.get("/set-aside.csv", response_class=Response)
def export_set_aside(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("set-aside", SetAsideView, all_of(lambda part: set_aside.listed(ctx, part), asked))
