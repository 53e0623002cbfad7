"""Calls that other gateways counted, as they are sent: at once by a script, or as a file to be checked first."""

from __future__ import annotations

from functools import partial
from typing import Annotated, BinaryIO

from fastapi import APIRouter, Query

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.outside_calls import LONGEST_SOURCE
from calm_tariff.edge.asking import IdempotencyKey
from calm_tariff.edge.bodies import Body, takes
from calm_tariff.services.base import retrying
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve.elsewhere import at_once, files
from calm_tariff.services.serve.elsewhere.at_once import Sent
from calm_tariff.services.serve.elsewhere.files import UsageFileView

# What is sent is read once: it is done again from where it was kept, and not by reading it again.
router = APIRouter(tags=["usage from elsewhere"])

TAKEN = takes("text/csv", "application/jsonl", "application/cloudevents-batch+json", "application/json")
Source = Annotated[str, Query(max_length=LONGEST_SOURCE, description="The source of rows that name none.")]
LeavingOut = Annotated[bool, Query(description="Record the others where some rows cannot be used.")]


@router.post("/usage", openapi_extra=TAKEN)
def send(
    ctx: Asking,
    body: Body,
    source: Source = "",
    leaving_out: LeavingOut = False,
    idempotency_key: IdempotencyKey = None,
) -> Sent:
    """Record calls that another gateway counted: CSV, JSON Lines, or CloudEvents as lines or a batch, up to 10,000. The
    same source and id count once. Where a row cannot be used nothing is recorded, unless it may be left out."""
    return retrying.again(partial(_send, ctx, body, source, leaving_out, idempotency_key))


def _send(ctx: Context, body: BinaryIO, source: str, leaving_out: bool, key: str | None) -> Sent:
    body.seek(0)
    return at_once.send(ctx, body, source, leaving_out, key)


@router.post("/usage/files", status_code=201, openapi_extra=TAKEN)
def take(
    ctx: Asking, body: Body, name: Annotated[str, Query(max_length=1000)] = "sent", source: Source = ""
) -> UsageFileView:
    """Take a file of such calls in, to be checked row by row. Nothing of it is recorded yet."""
    return retrying.again(partial(_take, ctx, body, name, source))


def _take(ctx: Context, body: BinaryIO, name: str, source: str) -> UsageFileView:
    body.seek(0)
    return files.take(ctx, name, body, source)
