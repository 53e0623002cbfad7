"""One's own applications and keys."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from calm_tariff.core.keys import Kind
from calm_tariff.core.meters import Environment
from calm_tariff.edge.again import Again
from calm_tariff.portal_api.base.asking import Asking
from calm_tariff.services.admit import applications, certificates, credentials, key_bounds
from calm_tariff.services.admit.applications import ApplicationView
from calm_tariff.services.admit.credentials import KeyView, NewKey
from calm_tariff.services.admit.key_bounds import OperationOffered

router = APIRouter(route_class=Again)


class ApplicationIn(BaseModel):
    """An application: what it is for, whether live or in the sandbox alone, and a mail address to ask about it."""

    name: str = Field(max_length=200)
    purpose: str = ""
    environment: Environment = "live"
    contact: str = Field(default="", max_length=200)


class KeyIn(BaseModel):
    """A key to make or `brought` along, or a secret for the client id; good from and until a moment, or from the
    beginning of a day to the end of one in the provider's zone, if given."""

    label: str = Field(default="", max_length=200)
    environment: Environment = "live"
    kind: Kind = "key"
    starts_at: datetime | None = None
    expires_at: datetime | None = None
    first_day: date | None = None
    last_day: date | None = None
    brought: str = Field(default="", max_length=1000)


class CertificateIn(BaseModel):
    """A client certificate, in PEM form."""

    label: str = Field(default="", max_length=200)
    environment: Environment = "live"
    certificate: str = Field(max_length=30_000)


class PassingKeyIn(BaseModel):
    """A key to try calls with, or a secret for the client id."""

    kind: Kind = "key"


class RotationIn(BaseModel):
    """For how many hours the old key serves beside the new one."""

    hours: int


class BoundsIn(BaseModel):
    """What a key is narrowed to: addresses and networks (CIDR), and operations by id; none of a kind bounds nothing."""

    addresses: list[Annotated[str, Field(max_length=60)]] = Field(default=[], max_length=100)
    operations: list[int] = Field(default=[], max_length=2000)


class KeyWordsIn(BaseModel):
    """A key's label, and words of its owner's own by name."""

    label: str = Field(max_length=200)
    tags: dict[str, str] = {}


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
    return applications.register(ctx, **typed.model_dump())


@router.put("/applications/{application_id}")
def change_application(ctx: Asking, application_id: int, typed: ApplicationIn) -> ApplicationView:
    """Say otherwise what an application is."""
    return applications.change(ctx, application_id, **typed.model_dump())


@router.post("/applications/{application_id}/keys", status_code=201)
def make_key(ctx: Asking, application_id: int, typed: KeyIn) -> NewKey:
    """Make a key; its secret is in this answer only."""
    return credentials.make_key(ctx, application_id, **typed.model_dump())


@router.post("/applications/{application_id}/certificates", status_code=201)
def bring_certificate(ctx: Asking, application_id: int, typed: CertificateIn) -> KeyView:
    """Make a client certificate a credential."""
    return certificates.bring(ctx, application_id, typed.label, typed.environment, typed.certificate)


@router.post("/applications/{application_id}/passing-keys", status_code=201)
def make_passing_key(ctx: Asking, application_id: int, typed: PassingKeyIn) -> NewKey:
    """Make a key of the sandbox that lives an hour; its secret is in this answer only."""
    return credentials.make_passing_key(ctx, application_id, typed.kind)


@router.put("/applications/{application_id}/tags")
def set_tags(ctx: Asking, application_id: int, typed: TagsIn) -> ApplicationView:
    """Change an application's tags."""
    return applications.set_tags(ctx, application_id, typed.tags)


@router.post("/keys/{key_id}/rotation", status_code=201)
def rotate_key(ctx: Asking, key_id: int, typed: RotationIn) -> NewKey:
    """A new key in place of one that serves on for some hours; its secret is in this answer only."""
    return credentials.rotate_key(ctx, key_id, typed.hours)


@router.get("/applications/{application_id}/operations")
def operations(ctx: Asking, application_id: int) -> list[OperationOffered]:
    """The operations that an application may call by its plans: what its keys can be narrowed to."""
    return key_bounds.offered(ctx, application_id)


@router.put("/keys/{key_id}/bounds")
def narrow_key(ctx: Asking, key_id: int, typed: BoundsIn) -> KeyView:
    """Narrow a key to addresses that its calls may come from, and operations that they may ask for."""
    return key_bounds.narrow(ctx, key_id, typed.addresses, typed.operations)


@router.put("/keys/{key_id}")
def word_key(ctx: Asking, key_id: int, typed: KeyWordsIn) -> KeyView:
    """Give a key another label and tags."""
    return credentials.word(ctx, key_id, typed.label, typed.tags)


@router.delete("/keys/{key_id}")
def revoke_key(ctx: Asking, key_id: int) -> KeyView:
    """Revoke a key at once."""
    return credentials.revoke_key(ctx, key_id)
