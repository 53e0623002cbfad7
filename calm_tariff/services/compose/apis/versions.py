"""APIs and their versions: where each answers, and from which back ends."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal
from urllib.parse import urlsplit

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, Stale
from calm_tariff.core.lifecycles import API_VERSION, move
from calm_tariff.services.base import auditing, reaching, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.reaching import OutsideAddress
from calm_tariff.services.compose.apis import back_ends, operations
from calm_tariff.services.compose.apis.operations import OperationTyped, subject
from calm_tariff.services.compose.apis.views import ApiView, get, view
from calm_tariff.store.compose.apis import Api, ApiVersion, BackEndHealth, Operation

ChosenBy = Literal["path", "header", "host"]


@dataclass(frozen=True, slots=True)
class ApiSummary:
    """A line of the list of APIs. `well` is None where no back end was asked yet."""

    id: int
    name: str
    version: str
    state: str
    base_path: str
    operations: int
    well: bool | None
    sunset_at: datetime | None


@dataclass(frozen=True, slots=True)
class ApiTyped:
    """An API version as somebody typed it; `operations` only for a new one."""

    name: str
    version: str
    description: str
    base_path: str
    back_end_url: str
    capacity_per_second: int | None = None
    operations: Sequence[OperationTyped] = ()
    chosen_by: ChosenBy = "path"
    chosen_name: str = ""
    chosen_value: str = ""
    sandbox_url: str = ""
    health_path: str = ""
    state: Literal["draft", "live"] = "live"


def summaries(ctx: Context) -> list[ApiSummary]:
    """All API versions by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        here = select(Operation.api_version_id, func.count()).where(Operation.retired_at.is_(None))
        counted = dict(session.execute(here.group_by(Operation.api_version_id)).all())
        well: dict[int, bool] = {}
        for health in session.scalars(select(BackEndHealth)):
            well[health.api_version_id] = well.get(health.api_version_id, True) and health.well
        query = select(ApiVersion).join(Api).order_by(Api.name, ApiVersion.version)
        return [
            ApiSummary(
                id=v.id,
                name=v.api.name,
                version=v.version,
                state=v.state,
                base_path=v.base_path,
                operations=counted.get(v.id, 0),
                well=well.get(v.id),
                sunset_at=v.sunset_at,
            )
            for v in session.scalars(query)
        ]


def one(ctx: Context, version_id: int) -> ApiView:
    """One API version. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return view(session, get(session, version_id))


def create(ctx: Context, typed: ApiTyped) -> ApiView:
    """A new API version. Raises `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        return view(session, describe(session, ctx, typed))


def describe(session: Session, ctx: Context, typed: ApiTyped) -> ApiVersion:
    """Store a new API version within the caller's transaction. Raises `Invalid` or `Conflict`."""
    typed, logins = _checked(ctx, typed)
    operations.check(typed.operations)
    api = session.scalar(select(Api).where(Api.name == typed.name))
    if api is None:
        api = Api(name=typed.name, description=typed.description)
        session.add(api)
        session.flush()
    if session.scalar(select(ApiVersion).filter_by(api_id=api.id, version=typed.version)):
        raise Conflict(f"{typed.name} {typed.version} is already here", "version")
    _check_place(session, typed, None)
    state = typed.state if typed.state == "draft" else move(API_VERSION, typed.name, "draft", typed.state)
    version = ApiVersion(api=api, state=state, edition=1, **_settings(typed))
    _set_logins(ctx, version, logins, {})
    session.add(version)
    session.flush()
    for operation in typed.operations:
        session.add(
            Operation(
                api_version_id=version.id,
                method=operation.method,
                path=operation.path,
                summary=operation.summary,
                groups=list(operation.groups),
            )
        )
    session.flush()
    auditing.note(session, ctx, "described an API", subject(version), after=_terms(version))
    stamps.touch(session, ctx)
    return version


def save(ctx: Context, version_id: int, edition: int, typed: ApiTyped) -> ApiView:
    """Change where a version answers and asks. Raises `Stale` where somebody saved in between."""
    ctx.actor.must_be("product manager")
    typed, logins = _checked(ctx, typed)
    with ctx.transaction() as session:
        version = get(session, version_id, lock=True)
        if version.edition != edition:
            raise Stale("somebody else has changed this API meanwhile", version.api.name, view(session, version))
        before = _terms(version)
        _check_place(session, typed, version.id)
        version.api.name, version.api.description = typed.name, typed.description
        asked_before = {name: getattr(version, name) for name in _LOGINS}
        for name, value in _settings(typed).items():
            setattr(version, name, value)
        _set_logins(ctx, version, logins, asked_before)
        version.edition += 1
        auditing.note(session, ctx, "changed an API", subject(version), before=before, after=_terms(version))
        stamps.touch(session, ctx)
        session.flush()
        return view(session, version)


_LOGINS = {"back_end_url": "back_end_login", "sandbox_url": "sandbox_login"}


def _set_logins(
    ctx: Context, version: ApiVersion, logins: Mapping[str, str | None], asked_before: Mapping[str, str]
) -> None:
    """Keep what back ends are asked with, sealed. Where nothing is said of it, it stays as long as the same back end is
    asked: to another it would be given away."""
    for field, kept in _LOGINS.items():
        login = logins[field]
        if login is not None:
            setattr(version, kept, back_ends.sealed_login(ctx, login) if login else "")
        elif urlsplit(getattr(version, field))[:2] != urlsplit(asked_before.get(field, ""))[:2]:
            setattr(version, kept, "")


def _checked(ctx: Context, typed: ApiTyped) -> tuple[ApiTyped, dict[str, str | None]]:
    """What was typed, without names and passwords in addresses, and these. Raises `Invalid`, naming the field."""
    _check(typed)
    back_end = reaching.parts(ctx, typed.back_end_url, "back_end_url")
    sandbox = reaching.parts(ctx, typed.sandbox_url, "sandbox_url") if typed.sandbox_url else OutsideAddress("", "")
    typed = replace(typed, back_end_url=back_end.url, sandbox_url=sandbox.url)
    return typed, {"back_end_url": back_end.login, "sandbox_url": sandbox.login}


def _check(typed: ApiTyped) -> None:
    names.plain(typed.name, "name")
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]{0,19}", typed.version):
        raise Invalid("must be letters, digits, dots and dashes, such as v1", "version")
    if not re.fullmatch(r"(/[A-Za-z0-9._~-]+)+", typed.base_path):
        raise Invalid("must be a plain path such as /tides/v1", "base_path")
    if typed.health_path and not typed.health_path.startswith("/"):
        raise Invalid("must begin with a slash", "health_path")
    if typed.capacity_per_second is not None and typed.capacity_per_second <= 0:
        raise Invalid("must be above 0", "capacity_per_second")
    if typed.chosen_by == "header" and not re.fullmatch(r"[A-Za-z][A-Za-z0-9-]{0,99}", typed.chosen_name):
        raise Invalid("must be the name of a header, such as API-Version", "chosen_name")
    if typed.chosen_by != "path" and not typed.chosen_value.strip():
        raise Invalid(f"must say which {typed.chosen_by} leads here", "chosen_value")


def _check_place(session: Session, typed: ApiTyped, but: int | None) -> None:
    """Refuse a place that another version answers at, or one inside or around it."""
    chosen = _chosen(typed)
    for other in session.scalars(select(ApiVersion)):
        if other.id == but:
            continue
        base = other.base_path
        same = base == typed.base_path
        if same and (other.chosen_by, other.chosen_name, other.chosen_value) == chosen:
            raise Conflict(f"is where {other.api.name} {other.version} answers", "base_path")
        if not same and (base.startswith(typed.base_path + "/") or typed.base_path.startswith(base + "/")):
            raise Conflict(f"overlaps with {base} of {other.api.name} {other.version}", "base_path")


def _chosen(typed: ApiTyped) -> tuple[str, str, str]:
    if typed.chosen_by == "path":
        return "path", "", ""
    name = typed.chosen_name.lower() if typed.chosen_by == "header" else ""
    return typed.chosen_by, name, typed.chosen_value.strip().lower()


def _settings(typed: ApiTyped) -> dict[str, object]:
    by, name, value = _chosen(typed)
    return {
        "version": typed.version,
        "base_path": typed.base_path,
        "chosen_by": by,
        "chosen_name": name,
        "chosen_value": value,
        "back_end_url": typed.back_end_url,
        "sandbox_url": typed.sandbox_url,
        "health_path": typed.health_path,
        "capacity_per_second": typed.capacity_per_second,
    }


def _terms(version: ApiVersion) -> dict[str, object]:
    return {
        "base_path": version.base_path,
        "chosen": [version.chosen_by, version.chosen_name, version.chosen_value],
        "back_end_url": version.back_end_url,
        "sandbox_url": version.sandbox_url,
        "capacity_per_second": version.capacity_per_second,
    }
