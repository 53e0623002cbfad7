"""What somebody was told: their notices, read and unread, and which of them come by mail as well."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import ColumnElement, func, select, update
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.core.notices import GROUPS, OF_PEOPLE, Group
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.notices import Notice, NoticeChoice
from calm_tariff.store.base.paging import Page, PageQuery, page


@dataclass(frozen=True, slots=True, kw_only=True)
class NoticeView:
    """A notice: its words, and the page it leads to, below where whoever was told is at home."""

    id: int
    subject: str
    text: str
    page: str
    written_at: datetime
    read: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class GroupChoice:
    """A group of notices, and whether they come by mail."""

    group: Group
    by_mail: bool


def own(ctx: Context, cursor: str | None = None) -> Page[NoticeView]:
    """A page of one's notices, the newest first. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        query = select(Notice).where(_mine(ctx))
        found = page(
            session, query, Notice.id, {"when": Notice.written_at}, PageQuery(down=True, cursor=cursor, rows=30)
        )
        return replace(found, rows=[_view(notice) for notice in found.rows])


def unread(ctx: Context) -> int:
    """How many of one's notices were not read. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        return session.scalar(select(func.count()).where(_mine(ctx), Notice.read_at.is_(None))) or 0


def read(ctx: Context, notices: Sequence[int] | None = None) -> None:
    """Mark notices of one's own as read; all of them, where none are named. Another's stay as they are."""
    change = update(Notice).where(_mine(ctx), Notice.read_at.is_(None)).values(read_at=ctx.now)
    if notices is not None:
        change = change.where(Notice.id.in_(notices))
    with ctx.transaction() as session:
        session.execute(change)


def choices(ctx: Context) -> list[GroupChoice]:
    """Which groups of notices come by mail. Raises `NotSignedIn`."""
    with ctx.reading() as session:
        return _choices(session, *_whose(ctx))


def choose(ctx: Context, group: Group, by_mail: bool) -> list[GroupChoice]:
    """Have notices of a group by mail, or not. Raises `NotSignedIn`, or `NotFound` for one that one gets nothing of."""
    audience, identifier = _whose(ctx)
    if group not in _groups(audience):
        raise NotFound("you get no notices of that group", group)
    with ctx.transaction() as session:
        chosen = session.get(NoticeChoice, (audience, identifier, group))
        if chosen is None:
            session.add(NoticeChoice(audience=audience, audience_id=identifier, group=group, by_mail=by_mail))
        else:
            chosen.by_mail = by_mail
        session.flush()
        return _choices(session, audience, identifier)


def _choices(session: Session, audience: str, identifier: int) -> list[GroupChoice]:
    query = select(NoticeChoice.group, NoticeChoice.by_mail).filter_by(audience=audience, audience_id=identifier)
    made = {group: by_mail for group, by_mail in session.execute(query)}  # noqa: C416
    return [GroupChoice(group=group, by_mail=made.get(group, True)) for group in _groups(audience)]


def _groups(audience: str) -> list[Group]:
    return [group for group in GROUPS if audience == "member" or group in OF_PEOPLE]


def _whose(ctx: Context) -> tuple[str, int]:
    actor = ctx.actor
    if actor.member_id is not None:
        return "member", actor.member_id
    if actor.person_id is not None:
        return "person", actor.person_id
    raise NotSignedIn("sign in first")


def _mine(ctx: Context) -> ColumnElement[bool]:
    audience, identifier = _whose(ctx)
    return (Notice.audience == audience) & (Notice.audience_id == identifier) & (Notice.written_at <= ctx.now)


def _view(notice: Notice) -> NoticeView:
    return NoticeView(
        id=notice.id,
        subject=notice.subject,
        text=notice.text,
        page=notice.link,
        written_at=notice.written_at,
        read=notice.read_at is not None,
    )
