"""Release notes of API versions: what was new on a day, written in the console and read in the portal."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import date

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid, NotFound, Stale
from calm_tariff.formats.markdown import html
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose.apis.operations import subject
from calm_tariff.services.compose.apis.views import get
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.release_notes import ReleaseNote

LONGEST = 10_000
# So many are shown of a product; older ones stay in the console.
MOST_SHOWN = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class NoteView:
    """A note as its writers see it: `text` is Markdown, and `edition` its ETag."""

    id: int
    day: date
    text: str
    html: str
    edition: int


@dataclass(frozen=True, slots=True)
class NoteShown:
    """A note as consumers read it."""

    id: int
    version: str
    day: date
    html: str


def of_version(ctx: Context, version_id: int) -> list[NoteView]:
    """A version's notes, the newest first. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return [_view(note) for note in _of(session, [get(session, version_id).id])]


def write(ctx: Context, version_id: int, day: date, text: str) -> NoteView:
    """A new note. Raises `NotFound`, or `Invalid`, naming the field."""
    ctx.actor.must_be("product manager")
    text = _checked(text)
    with ctx.transaction() as session:
        version = get(session, version_id)
        note = ReleaseNote(api_version_id=version.id, day=day, text=text, edition=1, created_at=ctx.now)
        session.add(note)
        session.flush()
        auditing.note(session, ctx, "wrote a release note", subject(version), after=_said(note))
        return _view(note)


def change(ctx: Context, note_id: int, edition: int, day: date, text: str) -> NoteView:
    """Say it otherwise. Raises `NotFound`, `Stale`, or `Invalid`, naming the field."""
    ctx.actor.must_be("product manager")
    text = _checked(text)
    with ctx.transaction() as session:
        note = _held(session, note_id)
        if note.edition != edition:
            raise Stale("somebody else has changed this note meanwhile", "the note", _view(note))
        before = _said(note)
        note.day, note.text, note.edition = day, text, note.edition + 1
        auditing.note(session, ctx, "changed a release note", subject(note.version), before=before, after=_said(note))
        return _view(note)


def remove(ctx: Context, note_id: int) -> None:
    """Take a note away. Raises `NotFound`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        note = _held(session, note_id)
        auditing.note(session, ctx, "took a release note away", subject(note.version), before=_said(note))
        session.delete(note)


def shown(session: Session, version_ids: Collection[int], today: date) -> list[NoteShown]:
    """What consumers read of versions on a day of the provider's, the newest first."""
    notes = _of(session, version_ids, today)
    return [NoteShown(n.id, f"{n.version.api.name} {n.version.version}", n.day, html(n.text)) for n in notes]


def _of(session: Session, version_ids: Collection[int], until: date | None = None) -> Sequence[ReleaseNote]:
    query = select(ReleaseNote).where(ReleaseNote.api_version_id.in_(version_ids))
    if until is not None:
        query = query.where(ReleaseNote.day <= until).limit(MOST_SHOWN)
    return session.scalars(query.order_by(ReleaseNote.day.desc(), ReleaseNote.id.desc())).all()


def _held(session: Session, note_id: int) -> ReleaseNote:
    note = locked(session, ReleaseNote, note_id)
    if note is None:
        raise NotFound("there is no such release note", str(note_id))
    return note


def _checked(text: str) -> str:
    text = text.strip()
    if not text:
        raise Invalid("must not be empty", "text")
    if len(text) > LONGEST:
        raise Invalid(f"must be at most {LONGEST:,} characters long", "text")
    return text


def _said(note: ReleaseNote) -> dict[str, object]:
    return {"day": note.day.isoformat(), "text": note.text}


def _view(note: ReleaseNote) -> NoteView:
    return NoteView(id=note.id, day=note.day, text=note.text, html=html(note.text), edition=note.edition)
