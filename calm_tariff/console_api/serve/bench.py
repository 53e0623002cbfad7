"""Compose: the bench, where test calls are fired at a plan in real time."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import Annotated, Any, Literal

import httpx
import orjson
from fastapi import APIRouter, Query, Request
from fastapi.responses import PlainTextResponse, StreamingResponse
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge import reaching
from calm_tariff.edge.again import Again
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve import bench
from calm_tariff.services.serve.bench import BenchCall, BenchOffer, Pattern, Run, Terms

router = APIRouter(tags=["bench"], route_class=Again)
STAND_IN_SECONDS = 0.02


class RunIn(BaseModel):
    """What to fire: a pattern in numbers or as a list, at which plan's terms, and who answers."""

    plan_id: int
    terms: Terms = "live"
    operation_id: int
    calls: int = 30
    per_second: float = 12
    keys: int = 1
    list: str = ""
    answered_by: Literal["stand-in", "sandbox"] = "stand-in"


class RunBegun(BaseModel):
    """The first line of a run's answer; one `BenchCall` a line follows, and a last line `{"done": true}`."""

    title: str
    operation: str
    calls: int
    limits: list[bench.LimitOnBench]
    case: dict[str, Any]


@router.get("/bench/offers")
def bench_offers(ctx: Asking) -> list[BenchOffer]:
    """What can be put on the bench."""
    return bench.offers(ctx)


@router.get("/bench/recorded", response_class=PlainTextResponse)
def bench_recorded(ctx: Asking, consumer_id: int, calls: Annotated[int, Query(ge=1, le=2000)] = 200) -> str:
    """A consumer's last calls as a list for the bench."""
    return bench.recorded(ctx, consumer_id, calls)


@router.post("/bench/runs", response_class=StreamingResponse, responses={200: {"model": RunBegun | BenchCall}})
async def bench_run(request: Request, ctx: Asking, wanted: RunIn) -> StreamingResponse:
    """Fire test calls in real time, and answer each as a line of JSON when it is done. Hanging up stops the run."""
    pattern = bench.listed(wanted.list) if wanted.list else bench.evenly(wanted.calls, wanted.per_second, wanted.keys)
    run = await asyncio.to_thread(bench.begin, ctx, wanted.plan_id, wanted.terms, wanted.operation_id)
    return StreamingResponse(
        _fired(ctx, request, run, pattern, wanted.answered_by),
        media_type="application/jsonl",
        headers={"cache-control": "no-store"},
    )


async def _fired(ctx: Context, request: Request, run: Run, pattern: Pattern, answered_by: str) -> AsyncIterator[bytes]:
    begun = RunBegun(
        title=run.title, operation=run.operation.label, calls=len(pattern.calls), limits=run.limits, case=run.case()
    )
    yield _line(begun.model_dump(mode="json"))
    done: asyncio.Queue[BenchCall | None] = asyncio.Queue()
    async with reaching.async_client(ctx.reach, timeout=10, headers=run.sandbox_headers) as client:
        firing = asyncio.create_task(_fire(client, run, pattern, answered_by, done))
        try:
            for _ in pattern.calls:
                call = await done.get()
                if call is None or await request.is_disconnected():
                    return
                yield _line(asdict(call))
            yield _line({"done": True})
        finally:
            firing.cancel()
            await asyncio.gather(firing, return_exceptions=True)


async def _fire(
    client: httpx.AsyncClient, run: Run, pattern: Pattern, answered_by: str, done: asyncio.Queue[BenchCall | None]
) -> None:
    """Fire every call when it is due. Should that break off, None is the last thing done."""
    start = time.monotonic()

    async def one(n: int, key: int, at_us: int) -> None:
        call, decision = run.decide(at_us, key)
        status, size = 429, 0
        if decision.verdict != "refused":
            await asyncio.sleep(decision.wait_us / 1_000_000)
            status, size = await _ask(client, run, answered_by)
        await done.put(run.finished(n, key, call, decision, status=status, size=size))

    try:
        async with asyncio.TaskGroup() as group:
            for n, (after_us, key) in enumerate(pattern.calls):
                await asyncio.sleep(max(0.0, start + after_us / 1_000_000 - time.monotonic()))
                group.create_task(one(n, key, run.started_us + int((time.monotonic() - start) * 1_000_000)))
    finally:
        await done.put(None)


async def _ask(client: httpx.AsyncClient, run: Run, answered_by: str) -> tuple[int, int]:
    """The status and size of an answer: the sandbox back end's, or that of a stand-in which always says 200."""
    if answered_by == "stand-in" or not run.sandbox_url:
        await asyncio.sleep(STAND_IN_SECONDS)
        return 200, 512
    path = run.path
    while "{" in path:
        head, _, rest = path.partition("{")
        path = f"{head}1{rest.partition('}')[2]}"
    try:
        answer = await client.request(run.operation.method, run.sandbox_url.rstrip("/") + path)
    except httpx.HTTPError:
        return 503, 0
    return answer.status_code, len(answer.content)


def _line(value: Any) -> bytes:
    return orjson.dumps(value, option=orjson.OPT_APPEND_NEWLINE, default=str)
