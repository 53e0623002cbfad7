"""Release notes of API versions."""

from __future__ import annotations

from datetime import date

from fastapi import APIRouter
from pydantic import BaseModel

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.services.compose.apis import release_notes
from calm_tariff.services.compose.apis.release_notes import NoteView

router = APIRouter(tags=["release notes"], route_class=Again)


class NoteIn(BaseModel):
    """What was new on a day of the provider's, in Markdown."""

    day: date
    text: str


@router.get("/apis/{version_id}/release-notes")
def list_notes(ctx: Asking, version_id: int) -> list[NoteView]:
    """A version's notes."""
    return release_notes.of_version(ctx, version_id)


@router.post("/apis/{version_id}/release-notes", status_code=201)
def write_note(ctx: Asking, version_id: int, typed: NoteIn) -> NoteView:
    """Write one; consumers read it from its day on."""
    return release_notes.write(ctx, version_id, typed.day, typed.text)


@router.put("/release-notes/{note_id}")
def change_note(ctx: Asking, note_id: int, edition: Edition, typed: NoteIn) -> NoteView:
    """Say it otherwise."""
    return release_notes.change(ctx, note_id, edition, typed.day, typed.text)


@router.delete("/release-notes/{note_id}", status_code=204)
def remove_note(ctx: Asking, note_id: int) -> None:
    """Take it away."""
    release_notes.remove(ctx, note_id)
