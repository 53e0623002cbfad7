"""Groups of consumers."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.services.admit import groups
from calm_tariff.services.admit.groups import GroupView

router = APIRouter(tags=["products"], route_class=Again)


class GroupIn(BaseModel):
    """A group to make."""

    name: str = Field(max_length=200)


class MembersIn(BaseModel):
    """The consumers of a group, by id."""

    consumers: list[int]


@router.get("/groups")
def list_groups(ctx: Asking) -> list[GroupView]:
    """All groups of consumers."""
    return groups.everything(ctx)


@router.post("/groups", status_code=201)
def create_group(ctx: Asking, group: GroupIn) -> GroupView:
    """A new group."""
    return groups.create(ctx, group.name)


@router.put("/groups/{group_id}")
def set_members(ctx: Asking, group_id: int, members: MembersIn) -> GroupView:
    """Make a group of just these consumers."""
    return groups.set_members(ctx, group_id, members.consumers)
