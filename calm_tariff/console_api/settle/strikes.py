"""Striking recorded calls out, and having them count again."""

from __future__ import annotations

from datetime import date
from functools import partial
from typing import Annotated, Literal

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core import reasons
from calm_tariff.core.outside_calls import LONGEST_SOURCE
from calm_tariff.core.striking import MOST_NAMED
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.settle import striking
from calm_tariff.services.settle.striking import StrikePreview, StrikeView, Wanted
from calm_tariff.store.base.paging import Page
from calm_tariff.store.serve.call_queries import CallFilter

Day = Annotated[date, Field(ge=date(1970, 1, 2), le=date(9998, 12, 30))]
router = APIRouter(tags=["settle"], route_class=Again)


class CallsIn(BaseModel):
    """Which calls are meant: those of a consumer that all that is said narrows, as in the log; or calls of a source by
    its `ids`. Instants are in µs since the epoch, [since, until); days are the provider's, both included."""

    consumer: int | None = None
    verdict: Literal["served", "held"] | None = None
    subscription: int | None = None
    meter: int | None = None
    usage_file: int | None = None
    since_us: int | None = Field(None, ge=0, lt=2**62)
    until_us: int | None = Field(None, ge=0, lt=2**62)
    first_day: Day | None = None
    last_day: Day | None = None
    source: str = Field("", max_length=LONGEST_SOURCE)
    ids: list[str] = Field([], max_length=MOST_NAMED)

    def wanted(self) -> Wanted:
        """The same for the service."""
        chosen = CallFilter(
            verdict=self.verdict,
            consumer_id=self.consumer,
            subscription_id=self.subscription,
            meter_id=self.meter,
            usage_file_id=self.usage_file,
            since_us=self.since_us,
            until_us=self.until_us,
        )
        return Wanted(
            filter=chosen,
            first_day=self.first_day,
            last_day=self.last_day,
            source=self.source,
            ids=tuple(self.ids),
        )


class StrikeIn(BaseModel):
    """Which calls are struck out, why, and how many a preview has shown: no others are."""

    which: CallsIn
    why: str = Field(max_length=reasons.LONGEST)
    calls: int


class UndoIn(BaseModel):
    """Why calls count again."""

    why: str = Field(max_length=reasons.LONGEST)


@router.post("/strikes/preview")
def preview(ctx: Asking, typed: CallsIn) -> StrikePreview:
    """What striking calls out would change, by month. Nothing is done."""
    return striking.preview(ctx, typed.wanted())


@router.post("/strikes", status_code=201)
def strike_out(ctx: Asking, typed: StrikeIn, idempotency_key: IdempotencyKey = None) -> StrikeView:
    """Strike calls out: they stay recorded, marked, and no longer count."""
    return striking.strike_out(ctx, typed.which.wanted(), typed.why, typed.calls, idempotency_key)


@router.get("/strikes")
def list_strikes(ctx: Asking, asked: Paged) -> Page[StrikeView]:
    """What was struck out, the latest first."""
    return striking.listed(ctx, asked)


@router.get("/strikes.csv", response_class=Response)
def export_strikes(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("struck-out", StrikeView, all_of(partial(striking.listed, ctx), asked), left_out=("units",))


@router.get("/strikes/{strike_id}")
def one_strike(ctx: Asking, strike_id: int) -> StrikeView:
    """One of them."""
    return striking.one(ctx, strike_id)


@router.post("/strikes/{strike_id}/undo")
def undo(ctx: Asking, strike_id: int, typed: UndoIn) -> StrikeView:
    """Have them count again."""
    return striking.undo(ctx, strike_id, typed.why)
