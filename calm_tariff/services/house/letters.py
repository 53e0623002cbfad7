"""The mail log: every letter with its delivery, and having one sent again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal, get_args

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.base import auditing, jobs, mailing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.base.record import Mail

LetterState = Literal["waiting", "sent", "failed"]
STATES: tuple[LetterState, ...] = get_args(LetterState)


@dataclass(frozen=True, slots=True, kw_only=True)
class LetterView:
    """A letter: to whom, of which kind of notice, and what became of it. One that waits is tried again at `next_at`
    after so many `tries`, unless those who send it `gave_up`; `why` says what went wrong, the last time or for good."""

    id: int
    recipient: str
    kind: str
    subject: str
    written_at: datetime
    state: LetterState
    sent_at: datetime | None
    why: str
    tries: int
    gave_up: bool
    next_at: datetime | None
    confidential: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class LetterInFull:
    """A letter with what it says. What a confidential one says is for its recipient alone."""

    letter: LetterView
    text: str
    html: str


def listed(ctx: Context, wanted: PageQuery, state: str = "", kind: str = "") -> Page[LetterView]:
    """A page of letters, the latest first, or the first first if `down`: those in a state, or of a kind of notice.
    Words narrow it to recipients and subjects. Raises `Invalid`, naming the field."""
    ctx.actor.must_be(*ROLES)
    if state and state not in STATES:
        raise Invalid(f"must be one of {', '.join(STATES)}", "state")
    query = select(Mail)
    if state == "sent":
        query = query.where(Mail.sent_at.is_not(None))
    elif state:
        query = query.where(Mail.sent_at.is_(None))
        query = query.where(Mail.failed.is_not(None) if state == "failed" else Mail.failed.is_(None))
    if kind:
        query = query.where(Mail.kind == kind)
    if wanted.words:
        found = (c.contains(wanted.words, autoescape=True) for c in (Mail.recipient, Mail.subject))
        first, second = found
        query = query.where(first | second)
    with ctx.reading() as session:
        asked = replace(wanted, down=not wanted.down)
        letters = page(session, query, Mail.id, {"written": Mail.created_at}, asked)
        return replace(letters, rows=_views(session, letters.rows))


def to(session: Session, recipients: Sequence[str], most: int) -> list[LetterView]:
    """The latest letters to some addresses."""
    query = select(Mail).where(Mail.recipient.in_(recipients)).order_by(Mail.id.desc()).limit(most)
    return _views(session, session.scalars(query).all())


def one(ctx: Context, letter_id: int) -> LetterInFull:
    """A letter. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        mail = session.get(Mail, letter_id)
        if mail is None:
            raise NotFound("there is no such letter", str(letter_id))
        hidden = mail.confidential
        return LetterInFull(
            letter=_views(session, [mail])[0],
            text="" if hidden else mail.body,
            html="" if hidden else mail.html or "",
        )


def send_again(ctx: Context, letter_id: int) -> LetterInFull:
    """Have a letter sent that failed, or that waits to be tried again. Raises `NotFound`, and `Conflict` for one that
    was sent, or whose words are gone."""
    ctx.actor.must_be("product manager", "operations", "owner")
    with ctx.transaction() as session:
        mail = locked(session, Mail, letter_id)
        if mail is None:
            raise NotFound("there is no such letter", str(letter_id))
        if mail.sent_at is not None:
            raise Conflict("it was sent already", mail.subject)
        if mail.cause is not None and mail.failed is None and _held_back(session, ctx, letter_id):
            raise Conflict("it is held back for as long as what it speaks of can be undone", mail.subject)
        if not mail.body:
            raise Conflict("what it said was kept nowhere; whoever waits for it asks for another", mail.subject)
        mail.failed = None
        mailing.send_on(session, ctx, mail)
        auditing.note(
            session, ctx, "had a letter sent again", ("letter", mail.id, f"“{mail.subject}” to {mail.recipient}")
        )
    return one(ctx, letter_id)


def _held_back(session: Session, ctx: Context, letter_id: int) -> bool:
    job = jobs.of(session, mailing.SEND, [mailing.job_of(letter_id)]).get(mailing.job_of(letter_id))
    return job is not None and job.attempts == 0 and job.run_at > ctx.now


def _views(session: Session, found: Sequence[Mail]) -> list[LetterView]:
    waiting = [mailing.job_of(m.id) for m in found if m.sent_at is None and m.failed is None]
    under_way = jobs.of(session, mailing.SEND, waiting) if waiting else {}
    views = []
    for mail in found:
        job = under_way.get(mailing.job_of(mail.id))
        state: LetterState = "sent" if mail.sent_at else "failed" if mail.failed else "waiting"
        views.append(
            LetterView(
                id=mail.id,
                recipient=mail.recipient,
                kind=mail.kind,
                subject=mail.subject,
                written_at=mail.created_at,
                state=state,
                sent_at=mail.sent_at,
                why=mail.failed or (job.last_error if job else ""),
                tries=job.attempts if job else 0,
                gave_up=job is not None and job.given_up,
                next_at=job.run_at if job and not job.given_up else None,
                confidential=mail.confidential,
            )
        )
    return views
