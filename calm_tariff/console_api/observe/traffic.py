"""The call log and traffic, also as it happens."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterator
from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Query, Request
from fastapi.responses import Response, StreamingResponse

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import all_of, as_csv
from calm_tariff.services.base.context import ROLES
from calm_tariff.services.observe import traffic
from calm_tariff.services.observe.traffic import Recent
from calm_tariff.services.serve.call_lines import CallLine
from calm_tariff.store.base.paging import Page, PageQuery
from calm_tariff.store.serve.call_queries import CallFilter

router = APIRouter(tags=["observe"], route_class=Again)


Verdict = Literal["served", "held", "refused"]


BEAT_SECONDS = 1.0


def call_filter(
    verdict: Verdict | None = None,
    consumer: int | None = None,
    subscription: int | None = None,
    meter: int | None = None,
    usage_file: int | None = None,
    since_us: Annotated[int | None, Query(ge=0)] = None,
    until_us: Annotated[int | None, Query(ge=0)] = None,
) -> CallFilter:
    """Which calls are asked for."""
    return CallFilter(
        verdict=verdict,
        consumer_id=consumer,
        subscription_id=subscription,
        meter_id=meter,
        usage_file_id=usage_file,
        since_us=since_us,
        until_us=until_us,
    )


Narrowed = Annotated[CallFilter, Depends(call_filter)]


@router.get("/calls")
def list_calls(ctx: Asking, wanted: Narrowed, cursor: str | None = None) -> Page[CallLine]:
    """A page of the log."""
    return traffic.log(ctx, wanted, cursor)


@router.get("/calls.csv", response_class=Response)
def export_calls(ctx: Asking, wanted: Narrowed) -> Response:
    """The log as CSV, newest first."""
    calls = all_of(lambda part: traffic.log(ctx, wanted, part.cursor, part.rows), PageQuery())
    return as_csv("calls", CallLine, calls, left_out=("consumer_id",))


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
