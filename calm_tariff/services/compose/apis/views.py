"""An API version as it is shown: where it answers, what is counted of it, and how its back ends are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import API_VERSION
from calm_tariff.services.compose.apis import operations
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.apis import (
    KEPT_HEADERS,
    TRIES_AN_HOUR,
    ApiDocument,
    ApiVersion,
    BackEndHealth,
    Operation,
)
from calm_tariff.store.compose.meters import Meter, MeterOperation
from calm_tariff.store.compose.products import ProductOperation

# Paths that some back ends read as others, paths that are another operation in another case, and header fields that
# override the method or the path.
LetsThrough = Literal["odd paths", "other case", "overrides"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Health:
    """What a back end last answered, and since when it answers so."""

    environment: str
    well: bool
    answer: str
    took_ms: int
    checked_at: datetime
    since: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class ForwardingTyped:
    """How a version's back ends are asked: waits in ms, the longest body in bytes, the origins of pages that
    may call it from a browser (`*` for all), whether the back end is told who calls, after how many
    failures in a row (0: never) it is left alone for how many seconds, and what goes through that back ends read
    differently and is refused otherwise; which header fields are recorded with each call, and whether the beginnings
    of a sandbox call's bodies are kept for some days; how many calls an hour one address may try in the sandbox without
    an account, of operations that anyone may try."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: Sequence[str] = ()
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10
    lets_through: Sequence[LetsThrough] = ()
    kept_headers: Sequence[str] = KEPT_HEADERS
    keeps_bodies: bool = False
    tries_an_hour: int = TRIES_AN_HOUR


@dataclass(frozen=True, slots=True, kw_only=True)
class ApiView:
    """An API version. `edition` is its ETag; `groups` counts operations, '' those in none. The logins say whether
    a back end is asked with a name and password, which are shown to nobody."""

    id: int
    name: str
    version: str
    description: str
    state: str
    base_path: str
    chosen_by: str
    chosen_name: str
    chosen_value: str
    back_end_url: str
    sandbox_url: str
    health_path: str
    capacity_per_second: int | None
    deprecated_at: datetime | None
    sunset_at: datetime | None
    edition: int
    operations: int
    unsold: int
    uncounted: int
    groups: dict[str, int]
    health: list[Health]
    document: str | None
    moves: list[str]
    forwarding: ForwardingTyped
    back_end_login: bool
    sandbox_login: bool


def get(session: Session, version_id: int, lock: bool = False) -> ApiVersion:
    """The stored version. Raises `NotFound`."""
    found = locked(session, ApiVersion, version_id) if lock else session.get(ApiVersion, version_id)
    if found is None:
        raise NotFound("there is no such API version", str(version_id))
    return found


def view(session: Session, version: ApiVersion) -> ApiView:
    """A stored version with what is counted of it."""
    live = (Operation.api_version_id == version.id) & Operation.retired_at.is_(None)
    total = session.scalar(select(func.count()).where(live)) or 0
    sold = session.scalar(
        select(func.count(func.distinct(Operation.id)))
        .join(ProductOperation, ProductOperation.c.operation_id == Operation.id)
        .where(live)
    )
    counted = session.scalar(
        select(func.count(func.distinct(Operation.id)))
        .join(MeterOperation, MeterOperation.c.operation_id == Operation.id)
        .join(Meter, Meter.id == MeterOperation.c.meter_id)
        .where(live, Meter.state != "archived")
    )
    health = session.scalars(
        select(BackEndHealth).where(BackEndHealth.api_version_id == version.id).order_by(BackEndHealth.environment)
    )
    document = session.scalar(select(ApiDocument.name).where(ApiDocument.api_version_id == version.id))
    return ApiView(
        id=version.id,
        name=version.api.name,
        version=version.version,
        description=version.api.description,
        state=version.state,
        base_path=version.base_path,
        chosen_by=version.chosen_by,
        chosen_name=version.chosen_name,
        chosen_value=version.chosen_value,
        back_end_url=version.back_end_url,
        sandbox_url=version.sandbox_url,
        health_path=version.health_path,
        capacity_per_second=version.capacity_per_second,
        deprecated_at=version.deprecated_at,
        sunset_at=version.sunset_at,
        edition=version.edition,
        operations=total,
        unsold=total - (sold or 0),
        uncounted=total - (counted or 0),
        groups=operations.groups_of(session, version.id),
        health=[
            Health(
                environment=h.environment,
                well=h.well,
                answer=h.answer,
                took_ms=h.took_ms,
                checked_at=h.checked_at,
                since=h.since,
            )
            for h in health
        ],
        document=document,
        moves=sorted(API_VERSION[version.state]),
        forwarding=forwarding_of(version),
        back_end_login=bool(version.back_end_login),
        sandbox_login=bool(version.sandbox_login),
    )


def forwarding_of(v: ApiVersion) -> ForwardingTyped:
    """How a stored version's back ends are asked."""
    return ForwardingTyped(
        connect_ms=v.connect_ms,
        answer_ms=v.answer_ms,
        most_body_bytes=v.most_body_bytes,
        cors_origins=list(v.cors_origins),
        passes_caller=v.passes_caller,
        breaker_failures=v.breaker_failures,
        breaker_seconds=v.breaker_seconds,
        lets_through=list(v.lets_through),
        kept_headers=list(v.kept_headers),
        keeps_bodies=v.keeps_bodies,
        tries_an_hour=v.tries_an_hour,
    )
