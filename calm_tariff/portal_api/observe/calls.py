"""One's own calls."""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter

from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.observe import traffic
from calm_tariff.services.serve.call_lines import CallLine
from calm_tariff.store.base.paging import Page
from calm_tariff.store.serve.call_queries import CallFilter

router = APIRouter(route_class=Again)


@router.get("/calls")
def own_calls(
    ctx: Asking,
    verdict: Literal["served", "held", "refused"] | None = None,
    subscription: int | None = None,
    meter: int | None = None,
    since_us: int | None = None,
    until_us: int | None = None,
    cursor: str | None = None,
) -> Page[CallLine]:
    """One's calls, newest first."""
    wanted = CallFilter(
        verdict=verdict, subscription_id=subscription, meter_id=meter, since_us=since_us, until_us=until_us
    )
    return traffic.own_log(ctx, wanted, cursor)
