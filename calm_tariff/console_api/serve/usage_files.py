"""Files of calls that other gateways counted: checked, recorded, stopped."""

from __future__ import annotations

from functools import partial

from fastapi import APIRouter
from fastapi.responses import Response
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.serve.elsewhere import files
from calm_tariff.services.serve.elsewhere.files import UnusableRow, UsageFileView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["usage from elsewhere"], route_class=Again)


class AgreedIn(BaseModel):
    """Whether rows that cannot be used are left out."""

    leaving_out: bool = False


@router.get("/usage/files")
def list_usage_files(ctx: Asking, asked: Paged) -> Page[UsageFileView]:
    """The files, and what scripts have sent, the latest first."""
    return files.listed(ctx, asked)


@router.get("/usage/files.csv", response_class=Response)
def export_usage_files(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("usage-files", UsageFileView, all_of(partial(files.listed, ctx), asked))


@router.get("/usage/files/{usage_file_id}")
def one_usage_file(ctx: Asking, usage_file_id: int) -> UsageFileView:
    """A file as far as it is."""
    return files.one(ctx, usage_file_id)


@router.delete("/usage/files/{usage_file_id}", status_code=204)
def drop_usage_file(ctx: Asking, usage_file_id: int) -> None:
    """Forget a file of which nothing was recorded."""
    files.drop(ctx, usage_file_id)


@router.get("/usage/files/{usage_file_id}/unusable")
def list_unusable(ctx: Asking, usage_file_id: int, asked: Paged) -> Page[UnusableRow]:
    """A file's rows that cannot be used, each with its line and why."""
    return files.unusable(ctx, usage_file_id, asked)


@router.get("/usage/files/{usage_file_id}/unusable.csv", response_class=Response)
def export_unusable(ctx: Asking, usage_file_id: int, asked: Paged) -> Response:
    """The same as CSV."""
    every = all_of(lambda part: files.unusable(ctx, usage_file_id, part), asked)
    return as_csv(f"unusable-{usage_file_id}", UnusableRow, every)


@router.put("/usage/files/{usage_file_id}/recording")
def record_usage_file(ctx: Asking, usage_file_id: int, typed: AgreedIn) -> UsageFileView:
    """Record what a checked file has, or go on with that."""
    return files.record(ctx, usage_file_id, typed.leaving_out)


@router.delete("/usage/files/{usage_file_id}/recording")
def stop_usage_file(ctx: Asking, usage_file_id: int) -> UsageFileView:
    """Stop recording it; what is recorded stays."""
    return files.stop(ctx, usage_file_id)
