"""Observe: traffic, receipts and allowances; traffic also as it happens."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Query, Request
from fastapi.responses import Response, StreamingResponse

from calm_tariff.console_api.asking import Asking
from calm_tariff.edge.lists import Asked, all_of, as_csv
from calm_tariff.services import allowances, instances, receipts, set_aside, traffic
from calm_tariff.services.allowances import Gauge
from calm_tariff.services.context import ROLES
from calm_tariff.services.instances import GatewayHealth
from calm_tariff.services.receipts import Receipt
from calm_tariff.services.set_aside import SetAsideView
from calm_tariff.services.traffic import CallLine, Recent
from calm_tariff.store.call_queries import CallFilter
from calm_tariff.store.paging import Page, Wanted

router = APIRouter(tags=["observe"])

Verdict = Literal["served", "held", "refused"]
BEAT_SECONDS = 1.0


def call_filter(
    verdict: Verdict | None = None,
    consumer: int | None = None,
    subscription: int | None = None,
    meter: int | None = None,
    since_us: Annotated[int | None, Query(ge=0)] = None,
    until_us: Annotated[int | None, Query(ge=0)] = None,
) -> CallFilter:
    """Which calls are asked for."""
    return CallFilter(
        verdict=verdict, consumer_id=consumer, subscription_id=subscription, meter_id=meter, since_us=since_us,
        until_us=until_us,
    )  # fmt: skip


Narrowed = Annotated[CallFilter, Depends(call_filter)]


@router.get("/calls")
def list_calls(ctx: Asking, wanted: Narrowed, cursor: str | None = None) -> Page[CallLine]:
    """A page of the log."""
    return traffic.log(ctx, wanted, cursor)


@router.get("/calls.csv", response_class=Response)
def export_calls(ctx: Asking, wanted: Narrowed) -> Response:
    """The log as CSV, newest first."""
    calls = all_of(lambda part: traffic.log(ctx, wanted, part.cursor, part.rows), Wanted())
    return as_csv("calls", CallLine, calls, left_out=("consumer_id",))


@router.get("/calls/{call_id}/receipt")
def read_receipt(ctx: Asking, call_id: str) -> Receipt:
    """The receipt of one call."""
    return receipts.receipt(ctx, call_id)


@router.get("/traffic")
def recent_traffic(ctx: Asking, wanted: Narrowed) -> Recent:
    """The last half hour."""
    return traffic.recent(ctx, wanted)


@router.get("/traffic/live")
async def live_traffic(request: Request, ctx: Asking, wanted: Narrowed) -> StreamingResponse:
    """The last half hour whenever it changes, as server-sent events."""
    ctx.actor.must_be(*ROLES)

    async def events() -> AsyncIterator[str]:
        shown = None
        while not await request.is_disconnected():
            now = await asyncio.to_thread(traffic.recent, ctx, wanted)
            mark = (now.newest, now.served + now.held + now.refused)
            if mark != shown:
                shown = mark
                yield f"event: traffic\ndata: {json.dumps({'newest': now.newest})}\n\n"
            else:
                yield ": nothing new\n\n"
            await asyncio.sleep(BEAT_SECONDS)

    return StreamingResponse(events(), media_type="text/event-stream", headers={"cache-control": "no-store"})


@router.get("/health")
def gateway_health(ctx: Asking) -> GatewayHealth:
    """How every gateway and worker is, by what each last reported."""
    return instances.health(ctx)


@router.get("/set-aside")
def list_set_aside(ctx: Asking, asked: Asked) -> Page[SetAsideView]:
    """Repeats that say something else than what is recorded of their call, the newest first."""
    return set_aside.listed(ctx, asked)


@router.get("/set-aside.csv", response_class=Response)
def export_set_aside(ctx: Asking, asked: Asked) -> Response:
    """The same as CSV."""
    return as_csv("set-aside", SetAsideView, all_of(lambda part: set_aside.listed(ctx, part), asked))


@router.get("/allowances")
def list_allowances(ctx: Asking, asked: Asked) -> Page[Gauge]:
    """Every allowance, the fullest first."""
    return allowances.everyone(ctx, asked)


@router.get("/allowances.csv", response_class=Response)
def export_allowances(ctx: Asking, asked: Asked) -> Response:
    """The same as CSV."""
    return as_csv("allowances", Gauge, all_of(lambda part: allowances.everyone(ctx, part), asked))
