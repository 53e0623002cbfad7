"""APIs and their versions."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date
from typing import Annotated, Any, Literal

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.console_api.compose.operations import OperationIn
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.compose.apis import forwarding, sunsets, versions
from calm_tariff.services.compose.apis.sunsets import State
from calm_tariff.services.compose.apis.versions import ApiSummary, ApiTyped, ChosenBy
from calm_tariff.services.compose.apis.views import ApiView, ForwardingTyped, LetsThrough
from calm_tariff.store.base.paging import Page, listed
from calm_tariff.store.compose.apis import KEPT_HEADERS, TRIES_AN_HOUR

router = APIRouter(tags=["APIs"], route_class=Again)


class ApiSettings(BaseModel):
    """Where an API version answers, and which back ends it asks."""

    name: str = Field(max_length=200)
    version: str
    description: str = ""
    base_path: str = Field(max_length=200)
    back_end_url: str = Field(max_length=200)
    capacity_per_second: int | None = None
    chosen_by: ChosenBy = "path"
    chosen_name: str = Field(default="", max_length=100)
    chosen_value: str = Field(default="", max_length=100)
    sandbox_url: str = Field(default="", max_length=200)
    health_path: str = Field(default="", max_length=200)

    def settings(self, state: Literal["draft", "live"] = "live", typed: list[OperationIn] | None = None) -> ApiTyped:
        """As the service takes it."""
        return ApiTyped(
            name=self.name.strip(),
            version=self.version.strip(),
            description=self.description,
            base_path=self.base_path.rstrip("/"),
            back_end_url=self.back_end_url.strip(),
            capacity_per_second=self.capacity_per_second,
            operations=[o.typed() for o in typed or []],
            chosen_by=self.chosen_by,
            chosen_name=self.chosen_name.strip(),
            chosen_value=self.chosen_value,
            sandbox_url=self.sandbox_url.strip(),
            health_path=self.health_path.strip(),
            state=state,
        )


class ApiIn(ApiSettings):
    """A new API version with its operations."""

    state: Literal["draft", "live"] = "live"
    operations: list[OperationIn] = []


class ForwardingIn(BaseModel):
    """How back ends are asked; see `ForwardingTyped`."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: list[str] = []
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10
    lets_through: list[LetsThrough] = []
    kept_headers: list[Annotated[str, Field(max_length=100)]] = Field(default=list(KEPT_HEADERS), max_length=100)
    keeps_bodies: bool = False
    tries_an_hour: int = TRIES_AN_HOUR


class StateIn(BaseModel):
    """A state to move to; a sunset says on which day it ends."""

    state: State
    sunset_on: date | None = None


_API_ORDERS: dict[str, Callable[[ApiSummary], Any]] = {
    "name": lambda row: f"{row.name} {row.version}",
    "state": lambda row: row.state,
    "base_path": lambda row: row.base_path,
    "operations": lambda row: row.operations,
}


@router.get("/apis")
def list_apis(ctx: Asking, asked: Paged) -> Page[ApiSummary]:
    """All API versions. Orders: name, state, base_path, operations."""
    return listed(versions.summaries(ctx), asked, _API_ORDERS)


@router.get("/apis.csv", response_class=Response)
def export_apis(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("apis", ApiSummary, all_of(lambda part: listed(versions.summaries(ctx), part, _API_ORDERS), asked))


@router.post("/apis", status_code=201)
def create_api(ctx: Asking, api: ApiIn) -> ApiView:
    """A new API version."""
    return versions.create(ctx, api.settings(api.state, api.operations))


@router.put("/apis/{version_id}/forwarding")
def set_forwarding(ctx: Asking, version_id: int, edition: Edition, typed: ForwardingIn) -> ApiView:
    """Say how a version's back ends are asked."""
    return forwarding.change(ctx, version_id, edition, ForwardingTyped(**typed.model_dump()))


@router.get("/apis/{version_id}")
def read_api(ctx: Asking, version_id: int) -> ApiView:
    """One API version."""
    return versions.one(ctx, version_id)


@router.put("/apis/{version_id}")
def save_api(ctx: Asking, version_id: int, edition: Edition, api: ApiSettings) -> ApiView:
    """Change where a version answers and asks."""
    return versions.save(ctx, version_id, edition, api.settings())


@router.put("/apis/{version_id}/state")
def set_api_state(ctx: Asking, version_id: int, wanted: StateIn) -> ApiView:
    """Move a version on: live, sunset with a day, or gone."""
    return sunsets.set_state(ctx, version_id, wanted.state, wanted.sunset_on)


@router.get("/apis/{version_id}/callers")
def read_callers(ctx: Asking, version_id: int) -> list[str]:
    """The consumers that may call a version now."""
    return sunsets.touched_by_end(ctx, version_id)
