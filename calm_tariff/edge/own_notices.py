"""The routes by which people of one kind read what they were told: the console has them for the provider's people, the
portal for consumers' members."""

# Annotations are evaluated here: who asks depends on the application.

from collections.abc import Callable
from typing import Annotated

from fastapi import APIRouter, Depends
from pydantic import BaseModel, Field

from calm_tariff.core.notices import Group
from calm_tariff.edge.again import Again
from calm_tariff.services.base import own_notices
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.own_notices import GroupChoice, NoticeView
from calm_tariff.store.base.paging import Page


class Unread(BaseModel):
    """How many notices were not read."""

    unread: int


class ReadIn(BaseModel):
    """Which notices were read; all of them, where none are named."""

    notices: list[int] | None = Field(default=None, max_length=1000)


class ChoiceIn(BaseModel):
    """Whether notices of a group come by mail."""

    by_mail: bool


def router(asking: Callable[..., Context]) -> APIRouter:
    """The routes for whoever a dependency says is asking."""
    made = APIRouter(tags=["session"], route_class=Again)
    asked = Annotated[Context, Depends(asking)]

    @made.get("/notices")
    def own(ctx: asked, cursor: str | None = None) -> Page[NoticeView]:
        """One's notices, the newest first."""
        return own_notices.own(ctx, cursor)

    @made.get("/notices/unread")
    def unread(ctx: asked) -> Unread:
        """How many of them were not read."""
        return Unread(unread=own_notices.unread(ctx))

    @made.post("/notices/read", status_code=204)
    def read(ctx: asked, typed: ReadIn) -> None:
        """Mark notices as read."""
        own_notices.read(ctx, typed.notices)

    @made.get("/notice-choices")
    def choices(ctx: asked) -> list[GroupChoice]:
        """Which notices come by mail."""
        return own_notices.choices(ctx)

    @made.put("/notice-choices/{group}")
    def choose(ctx: asked, group: Group, typed: ChoiceIn) -> list[GroupChoice]:
        """Have notices of a group by mail, or not."""
        return own_notices.choose(ctx, group, typed.by_mail)

    return made
