"""One's own applications and keys."""

from __future__ import annotations

from datetime import date, datetime

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.core.keys import Kind
from calm_tariff.core.meters import Environment
from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import applications
from calm_tariff.services.admit.applications import ApplicationView, KeyView, NewKey

router = APIRouter(route_class=Again)


class ApplicationIn(BaseModel):
    """An application to register."""

    name: str = Field(max_length=200)
    description: str = ""


class KeyIn(BaseModel):
    """A key to make, or a secret for the client id; good from and until a moment, or to the end of a day in the
    provider's zone, if given."""

    label: str = Field(default="", max_length=200)
    environment: Environment = "live"
    kind: Kind = "key"
    starts_at: datetime | None = None
    expires_at: datetime | None = None
    last_day: date | None = None


class PassingKeyIn(BaseModel):
    """A key to try calls with, or a secret for the client id."""

    kind: Kind = "key"


class RotationIn(BaseModel):
    """For how many hours the old key serves beside the new one."""

    hours: int


class TagsIn(BaseModel):
    """An application's own words, by name."""

    tags: dict[str, str]


@router.get("/applications")
def own_applications(ctx: Asking) -> list[ApplicationView]:
    """One's applications with keys and plans."""
    return applications.own(ctx)


@router.post("/applications", status_code=201)
def register(ctx: Asking, typed: ApplicationIn) -> ApplicationView:
    """Register an application."""
    return applications.register(ctx, typed.name, typed.description)


@router.post("/applications/{application_id}/keys", status_code=201)
def make_key(ctx: Asking, application_id: int, typed: KeyIn) -> NewKey:
    """Make a key; its secret is in this answer only."""
    return applications.make_key(ctx, application_id, **typed.model_dump())


@router.post("/applications/{application_id}/passing-keys", status_code=201)
def make_passing_key(ctx: Asking, application_id: int, typed: PassingKeyIn) -> NewKey:
    """Make a key of the sandbox that lives an hour; its secret is in this answer only."""
    return applications.make_passing_key(ctx, application_id, typed.kind)


@router.put("/applications/{application_id}/tags")
def set_tags(ctx: Asking, application_id: int, typed: TagsIn) -> ApplicationView:
    """Change an application's tags."""
    return applications.set_tags(ctx, application_id, typed.tags)


@router.post("/keys/{key_id}/rotation", status_code=201)
def rotate_key(ctx: Asking, key_id: int, typed: RotationIn) -> NewKey:
    """A new key in place of one that serves on for some hours; its secret is in this answer only."""
    return applications.rotate_key(ctx, key_id, typed.hours)


@router.delete("/keys/{key_id}")
def revoke_key(ctx: Asking, key_id: int) -> KeyView:
    """Revoke a key at once."""
    return applications.revoke_key(ctx, key_id)
