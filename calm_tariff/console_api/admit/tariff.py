"""Compose: the whole tariff as a document."""

from __future__ import annotations

from datetime import date

from fastapi import APIRouter
from fastapi.responses import PlainTextResponse
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge import attachment
from calm_tariff.edge.again import Again
from calm_tariff.formats.documents import MOST_BYTES
from calm_tariff.services.admit import tariff_applying
from calm_tariff.services.admit.carrying_over import Existing
from calm_tariff.services.admit.tariff_applying import Applied
from calm_tariff.services.compose import tariff_document
from calm_tariff.services.compose.tariff_document import Difference

router = APIRouter(tags=["tariff"], route_class=Again)


class TariffIn(BaseModel):
    """A tariff document, `format: calm-tariff/1`."""

    text: str = Field(max_length=MOST_BYTES)


class TariffToApply(TariffIn):
    """A tariff document to apply; without `publish`, new terms stay drafts."""

    publish: Existing | None = None
    on: date | None = None


@router.get("/tariff", response_class=PlainTextResponse)
def export_tariff(ctx: Asking) -> PlainTextResponse:
    """The tariff as a YAML document."""
    headers = attachment.named("tariff.yaml")
    return PlainTextResponse(tariff_document.export(ctx), media_type="application/yaml", headers=headers)


@router.post("/tariff/diff")
def diff_tariff(ctx: Asking, wanted: TariffIn) -> list[Difference]:
    """What applying a document would change."""
    return tariff_document.diff(ctx, wanted.text)


@router.post("/tariff/apply")
def apply_tariff(ctx: Asking, wanted: TariffToApply) -> Applied:
    """Make the tariff what a document says, all of it or nothing."""
    return tariff_applying.apply(ctx, wanted.text, wanted.publish, wanted.on)
