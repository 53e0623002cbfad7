"""One's own calls."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Response

from calm_tariff.core.meters import Environment
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import all_of, as_csv, as_json
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.observe import traffic
from calm_tariff.services.serve.call_lines import CallLine
from calm_tariff.store.base.paging import Page, PageQuery
from calm_tariff.store.serve.call_queries import CallFilter

router = APIRouter(route_class=Again)


def call_filter(
    verdict: Literal["served", "held", "refused"] | None = None,
    subscription: int | None = None,
    application: int | None = None,
    operation: int | None = None,
    key: int | None = None,
    environment: Environment | None = None,
    status: int | None = None,
    refused_by: str | None = None,
    meter: int | None = None,
    since_us: int | None = None,
    until_us: int | None = None,
) -> CallFilter:
    """Which calls are asked for."""
    return CallFilter(
        verdict=verdict,
        subscription_id=subscription,
        application_id=application,
        operations=[operation] if operation is not None else None,
        key_id=key,
        environment=environment,
        status=status,
        refused_by=refused_by,
        meter_id=meter,
        since_us=since_us,
        until_us=until_us,
    )


Narrowed = Annotated[CallFilter, Depends(call_filter)]


@router.get("/calls")
def own_calls(ctx: Asking, wanted: Narrowed, cursor: str | None = None) -> Page[CallLine]:
    """One's calls, newest first."""
    return traffic.own_log(ctx, wanted, cursor)


@router.get("/calls.csv", response_class=Response)
def own_calls_file(ctx: Asking, wanted: Narrowed) -> Response:
    """One's calls as CSV, newest first."""
    return as_csv("calls", CallLine, _all(ctx, wanted), left_out=_OWN)


@router.get("/calls.json", response_class=Response)
def own_calls_json(ctx: Asking, wanted: Narrowed) -> Response:
    """One's calls as JSON, newest first."""
    return as_json("calls", CallLine, _all(ctx, wanted), left_out=_OWN)


def _all(ctx: Asking, wanted: CallFilter) -> Iterator[CallLine]:
    return all_of(lambda part: traffic.own_log(ctx, wanted, part.cursor, part.rows), PageQuery())


# Whose they are goes without saying.
_OWN = ("consumer_id", "consumer")
