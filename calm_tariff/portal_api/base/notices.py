"""What one was told."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.core.notices import Group
from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.base import own_notices
from calm_tariff.services.base.own_notices import GroupChoice, NoticeView
from calm_tariff.store.base.paging import Page

router = APIRouter(route_class=Again)


class Unread(BaseModel):
    """How many notices were not read."""

    unread: int


class ReadIn(BaseModel):
    """Which notices were read; all of them, where none are named."""

    notices: list[int] | None = Field(default=None, max_length=1000)


class ChoiceIn(BaseModel):
    """Whether notices of a group come by mail."""

    by_mail: bool


@router.get("/notices")
def own(ctx: Asking, cursor: str | None = None) -> Page[NoticeView]:
    """One's notices, the newest first."""
    return own_notices.own(ctx, cursor)


@router.get("/notices/unread")
def unread(ctx: Asking) -> Unread:
    """How many of them were not read."""
    return Unread(unread=own_notices.unread(ctx))


@router.post("/notices/read", status_code=204)
def read(ctx: Asking, typed: ReadIn) -> None:
    """Mark notices as read."""
    own_notices.read(ctx, typed.notices)


@router.get("/notice-choices")
def choices(ctx: Asking) -> list[GroupChoice]:
    """Which notices come by mail."""
    return own_notices.choices(ctx)


@router.put("/notice-choices/{group}")
def choose(ctx: Asking, group: Group, typed: ChoiceIn) -> list[GroupChoice]:
    """Have notices of a group by mail, or not."""
    return own_notices.choose(ctx, group, typed.by_mail)
