"""OpenAPI documents, read and written."""

from __future__ import annotations

from typing import Literal

from fastapi import APIRouter, BackgroundTasks
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.console_api.compose.apis import ApiSettings
from calm_tariff.edge import attachment
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.formats.documents import MOST_BYTES
from calm_tariff.services.compose.apis import documents
from calm_tariff.services.compose.apis.documents import Comparison, ReadingView
from calm_tariff.services.compose.apis.views import ApiView

router = APIRouter(tags=["APIs"], route_class=Again)


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


@router.post("/documents", status_code=202)
def begin_reading(ctx: Asking, document: DocumentIn, later: BackgroundTasks) -> ReadingView:
    """Read an OpenAPI document. It is read after this answer; ask for it to see how far it has come."""
    reading = documents.begin(ctx, document.name, document.text)
    later.add_task(documents.read, ctx, reading.id)
    return reading


@router.get("/documents/{reading_id}")
def read_reading(ctx: Asking, reading_id: int) -> ReadingView:
    """A document being read, or read."""
    return documents.one(ctx, reading_id)


@router.delete("/documents/{reading_id}")
def stop_reading(ctx: Asking, reading_id: int) -> ReadingView:
    """Stop reading a document, or put it away."""
    return documents.stop(ctx, reading_id)


@router.get("/documents/{reading_id}/against/{version_id}")
def compare_document(ctx: Asking, reading_id: int, version_id: int) -> Comparison:
    """What a document would change in a version, and whom that touches."""
    return documents.compare(ctx, reading_id, version_id)


@router.post("/documents/{reading_id}/as-new", status_code=201)
def apply_as_new(ctx: Asking, reading_id: int, wanted: NewFromDocument) -> ApiView:
    """A new API version from a document."""
    return documents.apply_as_new(ctx, reading_id, wanted.settings(wanted.state), wanted.agreed)


@router.post("/documents/{reading_id}/to/{version_id}")
def apply_document(ctx: Asking, reading_id: int, version_id: int, edition: Edition, wanted: Agreement) -> ApiView:
    """Make a version what a document says."""
    return documents.apply_to(ctx, reading_id, version_id, edition, wanted.agreed)


@router.get("/plans/{plan_id}/openapi.json")
def export_openapi(ctx: Asking, plan_id: int, version_id: int | None = None) -> JSONResponse:
    """The OpenAPI document of what a plan sells."""
    document = documents.sold_by(ctx, plan_id, ctx.gateway_address, version_id)
    return JSONResponse(document, headers=attachment.named(f"plan-{plan_id}.json"))
