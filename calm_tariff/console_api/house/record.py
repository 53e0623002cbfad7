"""The record: who changed what, narrowed, as a file, and whether it is whole."""

from __future__ import annotations

from datetime import date
from typing import Annotated

from fastapi import APIRouter, Depends, Query
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import Entry, EntryFilter
from calm_tariff.services.house import record
from calm_tariff.services.house.record import RecordChoices, RecordProof
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["house"], route_class=Again)


def entry_filter(
    by: Annotated[str, Query(max_length=200)] = "",
    subject_kind: Annotated[str, Query(max_length=40)] = "",
    subject_id: int | None = None,
    action: Annotated[str, Query(max_length=200)] = "",
    first: date | None = None,
    last: date | None = None,
) -> EntryFilter:
    """Which entries are asked for."""
    return EntryFilter(by=by, subject_kind=subject_kind, subject_id=subject_id, action=action, first=first, last=last)


Narrowed = Annotated[EntryFilter, Depends(entry_filter)]


@router.get("/record")
def entries(ctx: Asking, asked: Paged, narrowed: Narrowed) -> Page[Entry]:
    """Who changed what, newest first, or oldest first if `down`."""
    return auditing.entries(ctx, asked, narrowed)


@router.get("/record.csv", response_class=Response)
def export(ctx: Asking, asked: Paged, narrowed: Narrowed) -> Response:
    """The same as CSV."""
    rows = all_of(lambda part: auditing.entries(ctx, part, narrowed), asked)
    return as_csv("record", Entry, rows, left_out=["changes"])


@router.get("/record/choices")
def choices(ctx: Asking) -> RecordChoices:
    """What the record can be narrowed to."""
    return record.choices(ctx)


@router.get("/record/proof")
def proof(ctx: Asking, kept: Annotated[str, Query(max_length=200)] = "") -> RecordProof:
    """Look through the whole chain of entries; with `kept` (`number:digest`), also whether it still holds that one."""
    return record.proof(ctx, kept)
