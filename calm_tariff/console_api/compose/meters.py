"""Meters."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.meters import Environment, Measure
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.compose import meters
from calm_tariff.services.compose.meters import Dependent, MeterTyped, MeterView, State
from calm_tariff.store.base.paging import Page, listed

router = APIRouter(tags=["meters"], route_class=Again)


class FilterIn(BaseModel):
    """What a meter counts. Empty outcomes or credentials mean every one."""

    operations: list[int] = []
    outcomes: list[str] = ["2xx"]
    measure: Measure = "calls"
    environments: list[Environment] = ["live"]
    credentials: list[str] = []
    header: str | None = Field(default=None, max_length=200)

    def typed(self, name: str = "") -> MeterTyped:
        """As the service takes it."""
        header = (self.header or "").strip() or None
        return MeterTyped(
            name=name.strip(),
            operations=self.operations,
            outcomes=self.outcomes,
            measure=self.measure,
            environments=self.environments,
            credentials=self.credentials,
            header=header,
        )


class MeterIn(FilterIn):
    """A meter."""

    name: str = Field(max_length=200)


class MeterStateIn(BaseModel):
    """A state to move to."""

    state: State


class NameIn(BaseModel):
    """A name for a copy."""

    name: str = Field(max_length=200)


_ORDERS: dict[str, Callable[[MeterView], Any]] = {
    "name": lambda row: row.name,
    "state": lambda row: (row.state, row.sealed_at is None),
}


@router.get("/meters")
def list_meters(ctx: Asking, asked: Paged) -> Page[MeterView]:
    """All meters. Orders: name, state."""
    return listed(meters.everything(ctx), asked, _ORDERS)


@router.get("/meters.csv", response_class=Response)
def export_meters(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("meters", MeterView, all_of(lambda part: listed(meters.everything(ctx), part, _ORDERS), asked))


@router.post("/meters", status_code=201)
def create_meter(ctx: Asking, meter: MeterIn) -> MeterView:
    """A new meter."""
    return meters.create(ctx, meter.typed(meter.name))


@router.get("/meters/{meter_id}")
def read_meter(ctx: Asking, meter_id: int) -> MeterView:
    """One meter."""
    return meters.one(ctx, meter_id)


@router.put("/meters/{meter_id}")
def save_meter(ctx: Asking, meter_id: int, edition: Edition, meter: MeterIn) -> MeterView:
    """Change a meter; once sealed, only its name."""
    return meters.save(ctx, meter_id, edition, meter.typed(meter.name))


@router.put("/meters/{meter_id}/state")
def set_meter_state(ctx: Asking, meter_id: int, wanted: MeterStateIn) -> MeterView:
    """Pause a meter, let it count again, or archive it."""
    return meters.set_state(ctx, meter_id, wanted.state)


@router.get("/meters/{meter_id}/dependents")
def read_dependents(ctx: Asking, meter_id: int) -> list[Dependent]:
    """Whose charges or allowances read a meter now."""
    return meters.dependents(ctx, meter_id)


@router.post("/meters/{meter_id}/clone", status_code=201)
def clone_meter(ctx: Asking, meter_id: int, wanted: NameIn) -> MeterView:
    """A new, unsealed meter that counts the same."""
    return meters.clone(ctx, meter_id, wanted.name)
