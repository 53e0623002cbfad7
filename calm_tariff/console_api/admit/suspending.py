"""Suspending a consumer, and notes about it."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core import reasons
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import consumer_notes, suspending
from calm_tariff.services.admit.consumer_notes import ConsumerNoteView

router = APIRouter(tags=["consumers"], route_class=Again)


class SuspendedIn(BaseModel):
    """Why a consumer is suspended; its members are told."""

    reason: str = Field(max_length=reasons.LONGEST)


class ConsumerNoteIn(BaseModel):
    """A note about a consumer."""

    text: str = Field(max_length=consumer_notes.LONGEST)


@router.put("/consumers/{consumer_id}/suspension", status_code=204)
def suspend(ctx: Asking, consumer_id: int, typed: SuspendedIn) -> None:
    """Let none of its calls through, from now on."""
    suspending.suspend(ctx, consumer_id, typed.reason)


@router.delete("/consumers/{consumer_id}/suspension", status_code=204)
def resume(ctx: Asking, consumer_id: int) -> None:
    """Let its calls through again."""
    suspending.resume(ctx, consumer_id)


@router.post("/consumers/{consumer_id}/notes", status_code=201)
def write_note(ctx: Asking, consumer_id: int, typed: ConsumerNoteIn) -> list[ConsumerNoteView]:
    """Note something about a consumer, for colleagues alone."""
    return consumer_notes.write(ctx, consumer_id, typed.text)


@router.delete("/consumers/{consumer_id}/notes/{note_id}")
def take_note_away(ctx: Asking, consumer_id: int, note_id: int) -> list[ConsumerNoteView]:
    """Take away a note of one's own."""
    return consumer_notes.take_away(ctx, consumer_id, note_id)
