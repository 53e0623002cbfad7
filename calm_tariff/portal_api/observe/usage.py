"""What one's own calls came to."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from fastapi import APIRouter, Depends, Response

from calm_tariff.core.meters import Environment
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import as_csv
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.observe import own_usage
from calm_tariff.services.observe.own_usage import UsageView, UsageWanted, UseRow

router = APIRouter(route_class=Again)


def wanted(
    since: date | None = None,
    until: date | None = None,
    environment: Environment | None = None,
    application: int | None = None,
    operation: int | None = None,
    key: int | None = None,
    status: int | None = None,
) -> UsageWanted:
    """Which calls are asked about: of the provider's local days from `since` to `until`; the last thirty, where neither
    is said."""
    return UsageWanted(
        since=since,
        until=until,
        environment=environment,
        application=application,
        operation=operation,
        key=key,
        status=status,
    )


Wanted = Annotated[UsageWanted, Depends(wanted)]


@router.get("/usage")
def usage(ctx: Asking, asked: Wanted) -> UsageView:
    """One's calls by day, application, operation, key and status, and what refused them."""
    return own_usage.usage(ctx, asked)


@router.get("/usage.csv")
def usage_file(ctx: Asking, asked: Wanted) -> Response:
    """What these figures are sums of, as a file."""
    return as_csv("usage", UseRow, own_usage.rows(ctx, asked))
