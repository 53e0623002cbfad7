"""Files that consumers, members, applications and subscriptions are brought in from."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv, lines_as_csv
from calm_tariff.services.admit.importing import imports
from calm_tariff.services.admit.importing.imports import ColumnView, FileTyped, ImportRowView, ImportView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["consumers"], route_class=Again)

State = Annotated[str, Query(max_length=20, description="waiting, good, wrong, made or refused.")]


class FileIn(BaseModel):
    """A CSV file (RFC 4180) of one kind of things: consumers, members, applications or subscriptions."""

    kind: str = Field(max_length=40)
    name: str = Field(max_length=500)
    text: str


class BegunIn(BaseModel):
    """Whether whoever gets an account is written to, to set a password."""

    letters: bool = True


@router.get("/imports/columns")
def columns(ctx: Asking) -> dict[str, list[ColumnView]]:
    """The columns of each kind of file."""
    return imports.columns(ctx)


@router.get("/imports")
def list_imports(ctx: Asking, asked: Paged) -> Page[ImportView]:
    """The files, the latest first."""
    return imports.listed(ctx, asked)


@router.get("/imports.csv", response_class=Response)
def export_imports(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("imports", ImportView, all_of(lambda part: imports.listed(ctx, part), asked))


@router.post("/imports", status_code=201)
def take(ctx: Asking, typed: FileIn) -> ImportView:
    """Take a file in, to be checked row by row. Nothing of it is made yet."""
    return imports.take(ctx, FileTyped(kind=typed.kind, name=typed.name, text=typed.text))


@router.get("/imports/{import_id}")
def one(ctx: Asking, import_id: int) -> ImportView:
    """A file as far as it is brought in."""
    return imports.one(ctx, import_id)


@router.delete("/imports/{import_id}", status_code=204)
def drop(ctx: Asking, import_id: int) -> None:
    """Forget a file; what was made of it stays."""
    imports.drop(ctx, import_id)


@router.get("/imports/{import_id}/rows")
def rows(ctx: Asking, import_id: int, asked: Paged, state: State = "") -> Page[ImportRowView]:
    """A file's rows, or those in a state."""
    return imports.rows(ctx, import_id, asked, state)


@router.get("/imports/{import_id}/rows.csv", response_class=Response)
def export_rows(ctx: Asking, import_id: int, asked: Paged, state: State = "") -> Response:
    """The same as CSV."""
    every = all_of(lambda part: imports.rows(ctx, import_id, part, state), asked)
    return as_csv(f"rows-{import_id}", ImportRowView, every)


@router.get("/imports/{import_id}/left-out.csv", response_class=Response)
def left_out(ctx: Asking, import_id: int) -> Response:
    """The rows that were not brought in, with why, as CSV."""
    return lines_as_csv(f"left-out-{import_id}", *imports.left_out(ctx, import_id))


@router.put("/imports/{import_id}/running")
def begin(ctx: Asking, import_id: int, typed: BegunIn) -> ImportView:
    """Bring in what is good of it, or go on with that."""
    return imports.begin(ctx, import_id, typed.letters)


@router.delete("/imports/{import_id}/running")
def stop(ctx: Asking, import_id: int) -> ImportView:
    """Stop bringing it in; what was made stays."""
    return imports.stop(ctx, import_id)
