"""All data of a consumer: handed out, and what is personal in it erased."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response, StreamingResponse
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge import attachment
from calm_tariff.edge.again import Again
from calm_tariff.services.observe import erasing, handing_out
from calm_tariff.services.observe.erasing import ErasingView

router = APIRouter(tags=["consumers"], route_class=Again)


class ErasedIn(BaseModel):
    """The name of whoever is erased, as it is."""

    name: str = Field(max_length=200)


@router.get("/consumers/{consumer_id}/data.zip", response_class=Response)
def hand_out(ctx: Asking, consumer_id: int) -> StreamingResponse:
    """All its data as a ZIP archive of JSON Lines; that it was handed out stands on the record."""
    headers = attachment.named(f"consumer-{consumer_id}.zip")
    return StreamingResponse(handing_out.begin(ctx, consumer_id), media_type="application/zip", headers=headers)


@router.get("/consumers/{consumer_id}/erasing")
def consumer_consequences(ctx: Asking, consumer_id: int) -> ErasingView:
    """What erasing its personal data would bring with it."""
    return erasing.of_consumer(ctx, consumer_id)


@router.post("/consumers/{consumer_id}/erasing", status_code=204)
def erase_consumer(ctx: Asking, consumer_id: int, typed: ErasedIn) -> None:
    """Erase the personal data of an organisation whose account is closed."""
    erasing.erase_consumer(ctx, consumer_id, typed.name)


@router.get("/members/{member_id}/erasing")
def member_consequences(ctx: Asking, member_id: int) -> ErasingView:
    """What erasing the personal data of a member would bring with it."""
    return erasing.of_member(ctx, member_id)


@router.post("/members/{member_id}/erasing", status_code=204)
def erase_member(ctx: Asking, member_id: int, typed: ErasedIn) -> None:
    """Erase the personal data of a member."""
    erasing.erase_member(ctx, member_id, typed.name)
