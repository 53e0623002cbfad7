"""Compose: APIs, their versions, operations and OpenAPI documents, and the limits above all plans."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import date
from typing import Any, Literal

from fastapi import APIRouter, BackgroundTasks, Query
from fastapi.responses import JSONResponse, Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.asking import Asking
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import PART, Asked, all_of, as_csv
from calm_tariff.formats.documents import MOST_BYTES
from calm_tariff.services import api_documents, apis, house_limits, operations
from calm_tariff.services.api_documents import Comparison, ReadingView
from calm_tariff.services.apis import ApiSummary, ApiTyped, ApiView, ChosenBy, ForwardingTyped, LetsThrough, State
from calm_tariff.services.house_limits import HouseView
from calm_tariff.services.operations import Answers, OperationPage, OperationTyped, OperationView, Standing
from calm_tariff.store.paging import Page, listed

router = APIRouter(tags=["APIs"])


class OperationIn(BaseModel):
    """An operation."""

    method: str
    path: str = Field(max_length=200)
    summary: str = Field(default="", max_length=200)
    groups: list[str] = []

    def typed(self) -> OperationTyped:
        """As the service takes it."""
        return OperationTyped(self.method, self.path, self.summary, [g.strip() for g in self.groups if g.strip()])


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
            self.name.strip(), self.version.strip(), self.description, self.base_path.rstrip("/"),
            self.back_end_url.strip(), self.capacity_per_second, [o.typed() for o in typed or []], self.chosen_by,
            self.chosen_name.strip(), self.chosen_value, self.sandbox_url.strip(), self.health_path.strip(), state,
        )  # fmt: skip


class ApiIn(ApiSettings):
    """A new API version with its operations."""

    state: Literal["draft", "live"] = "live"
    operations: list[OperationIn] = []


class ForwardingIn(BaseModel):
    """How back ends are asked; see `services.apis.ForwardingTyped`."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: list[str] = []
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10
    lets_through: list[LetsThrough] = []


class AnswersIn(BaseModel):
    """Whether an operation answers from the back end or with its document's example."""

    answers: Answers


class StateIn(BaseModel):
    """A state to move to; a sunset says on which day it ends."""

    state: State
    sunset_on: date | None = None


class GroupingIn(BaseModel):
    """Operations to put into a group, or to take out."""

    operations: list[int]
    group: str
    belongs: bool = True


class DocumentIn(BaseModel):
    """An OpenAPI document, JSON or YAML."""

    name: str = Field(default="", max_length=200)
    text: str = Field(max_length=MOST_BYTES)


class NewFromDocument(ApiSettings):
    """A new API version from a document that was read."""

    state: Literal["draft", "live"] = "live"
    agreed: bool = False


class Agreement(BaseModel):
    """That parts with findings may be left out."""

    agreed: bool = False


class LimitsIn(BaseModel):
    """Limits, in the shape of `core.limits`; `api_version_id` is absent for provider-wide ones."""

    api_version_id: int | None = None
    limits: list[dict[str, Any]]


_API_ORDERS: dict[str, Callable[[ApiSummary], Any]] = {
    "name": lambda row: f"{row.name} {row.version}",
    "state": lambda row: row.state,
    "base_path": lambda row: row.base_path,
    "operations": lambda row: row.operations,
}


@router.get("/apis")
def list_apis(ctx: Asking, asked: Asked) -> Page[ApiSummary]:
    """All API versions. Orders: name, state, base_path, operations."""
    return listed(apis.summaries(ctx), asked, _API_ORDERS)


@router.get("/apis.csv", response_class=Response)
def export_apis(ctx: Asking, asked: Asked) -> Response:
    """The same as CSV."""
    return as_csv("apis", ApiSummary, all_of(lambda part: listed(apis.summaries(ctx), part, _API_ORDERS), asked))


@router.post("/apis", status_code=201)
def create_api(ctx: Asking, api: ApiIn) -> ApiView:
    """A new API version."""
    return apis.create(ctx, api.settings(api.state, api.operations))


@router.put("/apis/{version_id}/forwarding")
def set_forwarding(ctx: Asking, version_id: int, edition: Edition, typed: ForwardingIn) -> ApiView:
    """Say how a version's back ends are asked."""
    return apis.set_forwarding(ctx, version_id, edition, ForwardingTyped(**typed.model_dump()))


@router.put("/operations/{operation_id}/answers")
def set_answers(ctx: Asking, operation_id: int, typed: AnswersIn) -> OperationView:
    """Have an operation answer from the back end, or with its document's example."""
    return operations.set_answers(ctx, operation_id, typed.answers)


@router.get("/apis/{version_id}")
def read_api(ctx: Asking, version_id: int) -> ApiView:
    """One API version."""
    return apis.one(ctx, version_id)


@router.put("/apis/{version_id}")
def save_api(ctx: Asking, version_id: int, edition: Edition, api: ApiSettings) -> ApiView:
    """Change where a version answers and asks."""
    return apis.save(ctx, version_id, edition, api.settings())


@router.put("/apis/{version_id}/state")
def set_api_state(ctx: Asking, version_id: int, wanted: StateIn) -> ApiView:
    """Move a version on: live, sunset with a day, or gone."""
    return apis.set_state(ctx, version_id, wanted.state, wanted.sunset_on)


@router.get("/apis/{version_id}/callers")
def read_callers(ctx: Asking, version_id: int) -> list[str]:
    """The consumers that may call a version now."""
    return apis.touched_by_end(ctx, version_id)


@router.get("/apis/{version_id}/operations")
def list_operations(
    ctx: Asking,
    version_id: int,
    words: str = "",
    group: str | None = None,
    standing: Standing | None = None,
    after: int = Query(default=0, ge=0),
    limit: int = Query(default=100, ge=1, le=2000),
) -> OperationPage:
    """Operations of a version, a page at a time."""
    return operations.page(ctx, version_id, words, group, standing, after, limit)


@router.get("/apis/{version_id}/operations.csv", response_class=Response)
def export_operations(
    ctx: Asking,
    version_id: int,
    words: str = "",
    group: str | None = None,
    standing: Standing | None = None,
) -> Response:
    """The same as CSV, all of them."""

    def rows() -> Iterator[OperationView]:
        after: int | None = 0
        while after is not None:
            found = operations.page(ctx, version_id, words, group, standing, after, PART)
            yield from found.operations
            after = found.after

    return as_csv("operations", OperationView, rows())


@router.post("/apis/{version_id}/operations", status_code=201)
def add_operation(ctx: Asking, version_id: int, operation: OperationIn) -> OperationView:
    """A new operation."""
    return operations.add(ctx, version_id, operation.typed())


@router.post("/apis/{version_id}/groups")
def group_operations(ctx: Asking, version_id: int, wanted: GroupingIn) -> int:
    """Put operations into a group or take them out; answers how many changed."""
    return operations.put_into_group(ctx, version_id, wanted.operations, wanted.group, wanted.belongs)


@router.put("/operations/{operation_id}")
def save_operation(ctx: Asking, operation_id: int, operation: OperationIn) -> OperationView:
    """Change an operation."""
    return operations.save(ctx, operation_id, operation.typed())


@router.delete("/operations/{operation_id}", status_code=204)
def remove_operation(ctx: Asking, operation_id: int) -> None:
    """Take an operation away that nobody sells or counts."""
    operations.remove(ctx, operation_id)


@router.post("/documents", status_code=202)
def begin_reading(ctx: Asking, document: DocumentIn, later: BackgroundTasks) -> ReadingView:
    """Read an OpenAPI document. It is read after this answer; ask for it to see how far it has come."""
    reading = api_documents.begin(ctx, document.name, document.text)
    later.add_task(api_documents.read, ctx, reading.id)
    return reading


@router.get("/documents/{reading_id}")
def read_reading(ctx: Asking, reading_id: int) -> ReadingView:
    """A document being read, or read."""
    return api_documents.one(ctx, reading_id)


@router.delete("/documents/{reading_id}")
def stop_reading(ctx: Asking, reading_id: int) -> ReadingView:
    """Stop reading a document, or put it away."""
    return api_documents.stop(ctx, reading_id)


@router.get("/documents/{reading_id}/against/{version_id}")
def compare_document(ctx: Asking, reading_id: int, version_id: int) -> Comparison:
    """What a document would change in a version, and whom that touches."""
    return api_documents.compare(ctx, reading_id, version_id)


@router.post("/documents/{reading_id}/as-new", status_code=201)
def apply_as_new(ctx: Asking, reading_id: int, wanted: NewFromDocument) -> ApiView:
    """A new API version from a document."""
    return api_documents.apply_as_new(ctx, reading_id, wanted.settings(wanted.state), wanted.agreed)


@router.post("/documents/{reading_id}/to/{version_id}")
def apply_document(ctx: Asking, reading_id: int, version_id: int, edition: Edition, wanted: Agreement) -> ApiView:
    """Make a version what a document says."""
    return api_documents.apply_to(ctx, reading_id, version_id, edition, wanted.agreed)


@router.get("/plans/{plan_id}/openapi.json")
def export_openapi(ctx: Asking, plan_id: int, version_id: int | None = None) -> JSONResponse:
    """The OpenAPI document of what a plan sells."""
    document = api_documents.sold_by(ctx, plan_id, ctx.gateway_address, version_id)
    return JSONResponse(document, headers={"content-disposition": f'attachment; filename="plan-{plan_id}.json"'})


@router.get("/limits")
def list_limits(ctx: Asking) -> list[HouseView]:
    """The limits above all plans."""
    return house_limits.everything(ctx)


@router.put("/limits")
def save_limits(ctx: Asking, edition: Edition, wanted: LimitsIn) -> HouseView:
    """Keep the limits of one place above the plans."""
    return house_limits.save(ctx, wanted.api_version_id, edition, wanted.limits)
