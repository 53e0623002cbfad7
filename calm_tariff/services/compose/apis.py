"""APIs and their versions: where each answers, from which back ends, and until when."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from datetime import date, datetime
from typing import Literal, get_args
from urllib.parse import urlsplit

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.lifecycles import API_VERSION, move
from calm_tariff.core.periods import day_start, local_day, moment_of
from calm_tariff.services.base import auditing, jobs, reaching, stamps
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.base.reaching import OutsideAddress
from calm_tariff.services.compose import back_ends, operations
from calm_tariff.services.compose.operations import OperationTyped, subject
from calm_tariff.store.admit import subscribers
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.apis import Api, ApiDocument, ApiVersion, BackEndHealth, Operation
from calm_tariff.store.compose.meters import Meter, MeterOperation
from calm_tariff.store.compose.products import ProductOperation

END_VERSION = "end a version"
ChosenBy = Literal["path", "header", "host"]
# Paths that some back ends read as others, paths that are another operation in another case, and header fields that
# override the method or the path.
LetsThrough = Literal["odd paths", "other case", "overrides"]
State = Literal["draft", "live", "sunset", "gone"]


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
    differently and is refused otherwise."""

    connect_ms: int = 3000
    answer_ms: int = 30_000
    most_body_bytes: int = 10_000_000
    cors_origins: Sequence[str] = ()
    passes_caller: bool = False
    breaker_failures: int = 5
    breaker_seconds: int = 10
    lets_through: Sequence[LetsThrough] = ()


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
    with ctx.transaction() as session:
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
    with ctx.transaction() as session:
        return _view(session, get(session, version_id))


def create(ctx: Context, typed: ApiTyped) -> ApiView:
    """A new API version. Raises `Invalid` or `Conflict`, naming the field."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        return _view(session, describe(session, ctx, typed))


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
            raise Stale("somebody else has changed this API meanwhile", version.api.name, _view(session, version))
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
        return _view(session, version)


def set_forwarding(ctx: Context, version_id: int, edition: int, typed: ForwardingTyped) -> ApiView:
    """Say how a version's back ends are asked. Raises `Invalid`, naming the field, or `Stale`."""
    ctx.actor.must_be("product manager", "operations")
    for name, least, most in _BOUNDS:
        if not least <= getattr(typed, name) <= most:
            raise Invalid(f"must be between {least:,} and {most:,}", name)
    for origin in typed.cors_origins:
        parts = urlsplit(origin)
        if origin != "*" and (parts.scheme not in ("http", "https") or f"{parts.scheme}://{parts.netloc}" != origin):
            raise Invalid(f"{origin!r} is no origin, such as https://maps.example, nor *", "cors_origins")
    if set(typed.lets_through) - set(get_args(LetsThrough)):
        raise Invalid(f"must be some of {', '.join(get_args(LetsThrough))}", "lets_through")
    with ctx.transaction() as session:
        version = get(session, version_id, lock=True)
        if version.edition != edition:
            raise Stale("somebody else has changed this API meanwhile", version.api.name, _view(session, version))
        before = asdict(_forwarding(version))
        for name, value in asdict(typed).items():
            setattr(version, name, list(value) if name in ("cors_origins", "lets_through") else value)
        version.edition += 1
        auditing.note(
            session,
            ctx,
            "changed how back ends are asked",
            subject(version),
            before=before,
            after=asdict(_forwarding(version)),
        )
        stamps.touch(session, ctx)
        session.flush()
        return _view(session, version)


def set_state(ctx: Context, version_id: int, state: State, sunset_on: date | None = None) -> ApiView:
    """Move a version on: live, sunset with the day on which it ends, or gone.

    A sunset is told to the members of every consumer that may call it. Raises `Conflict` for a move
    that is not allowed, `Invalid` for a day that is not ahead.
    """
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        version = get(session, version_id, lock=True)
        before = version.state
        version.state = move(API_VERSION, f"{version.api.name} {version.version}", version.state, state)
        version.deprecated_at, version.sunset_at = None, version.sunset_at if state == "gone" else None
        if state == "sunset":
            where = zone_of(session)
            if sunset_on is None or sunset_on <= local_day(ctx.now_us, where):
                raise Invalid("must be a day ahead", "sunset_on")
            version.deprecated_at, version.sunset_at = ctx.now, moment_of(day_start(sunset_on, where))
            _announce(session, ctx, version, sunset_on)
            name = f"{version.api.name} {version.version}"
            jobs.write(
                session,
                ctx,
                END_VERSION,
                name,
                {"version": version.id},
                subject=str(version.id),
                run_at=version.sunset_at,
            )
        version.edition += 1
        auditing.note(
            session,
            ctx,
            f"set an API {state}",
            subject(version),
            before={"state": before},
            after={"state": state, "sunset": sunset_on.isoformat() if sunset_on else None},
        )
        stamps.touch(session, ctx)
        session.flush()
        return _view(session, version)


def touched_by_end(ctx: Context, version_id: int) -> list[str]:
    """The consumers that may call a version now, by name: whom its end concerns."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        return sorted(subscribers.consumers_calling(session, version_id).values())


def end_sunsets(ctx: Context) -> int:
    """Versions whose last day has passed are gone; returns how many. One that fails holds up no other."""
    with ctx.transaction() as session:
        due = session.scalars(
            select(ApiVersion.id).where(ApiVersion.state == "sunset", ApiVersion.sunset_at <= ctx.now)
        ).all()
    return one_by_one(due, lambda version: end_sunset(ctx, version))


def end_sunset(ctx: Context, version_id: int) -> bool:
    """A version whose last day has passed is gone; whether it is so now."""
    with ctx.transaction() as session:
        version = get(session, version_id, lock=True)
        if version.state != "sunset" or version.sunset_at is None or version.sunset_at > ctx.now:
            return False
        version.state = move(API_VERSION, version.api.name, version.state, "gone")
        auditing.note(
            session, ctx, "set an API gone", subject(version), before={"state": "sunset"}, after={"state": "gone"}
        )
        stamps.touch(session, ctx)
        return True


def get(session: Session, version_id: int, lock: bool = False) -> ApiVersion:
    """The stored version. Raises `NotFound`."""
    found = locked(session, ApiVersion, version_id) if lock else session.get(ApiVersion, version_id)
    if found is None:
        raise NotFound("there is no such API version", str(version_id))
    return found


def _announce(session: Session, ctx: Context, version: ApiVersion, sunset_on: date) -> None:
    name, last = f"{version.api.name} {version.version}", f"{sunset_on:%-d %B %Y}"
    told = subscribers.members_of(session, subscribers.consumers_calling(session, version.id))
    notice = Notice(kind="version ends", fields={"version": name, "day": last}, page="/portal/applications")
    notify(session, ctx, members(told), notice)


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


def _view(session: Session, version: ApiVersion) -> ApiView:
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
        forwarding=_forwarding(version),
        back_end_login=bool(version.back_end_login),
        sandbox_login=bool(version.sandbox_login),
    )


def _forwarding(v: ApiVersion) -> ForwardingTyped:
    return ForwardingTyped(
        connect_ms=v.connect_ms,
        answer_ms=v.answer_ms,
        most_body_bytes=v.most_body_bytes,
        cors_origins=list(v.cors_origins),
        passes_caller=v.passes_caller,
        breaker_failures=v.breaker_failures,
        breaker_seconds=v.breaker_seconds,
        lets_through=list(v.lets_through),
    )


_BOUNDS = (
    ("connect_ms", 10, 60_000),
    ("answer_ms", 10, 600_000),
    ("most_body_bytes", 0, 1_000_000_000),
    ("breaker_failures", 0, 1000),
    ("breaker_seconds", 1, 3600),
)


def _terms(version: ApiVersion) -> dict[str, object]:
    return {
        "base_path": version.base_path,
        "chosen": [version.chosen_by, version.chosen_name, version.chosen_value],
        "back_end_url": version.back_end_url,
        "sandbox_url": version.sandbox_url,
        "capacity_per_second": version.capacity_per_second,
    }
