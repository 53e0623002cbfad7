"""The life of an API version: live, at sunset until a day of which every consumer is told, and gone."""

from __future__ import annotations

from datetime import date
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.core.lifecycles import API_VERSION, move
from calm_tariff.core.periods import day_start, local_day, moment_of
from calm_tariff.services.base import auditing, jobs, stamps
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.base.notices import Notice, members, notify
from calm_tariff.services.base.one_by_one import one_by_one
from calm_tariff.services.compose.apis.operations import subject
from calm_tariff.services.compose.apis.views import ApiView, get, view
from calm_tariff.store.admit import subscribers
from calm_tariff.store.compose.apis import ApiVersion

END_VERSION = "end a version"
State = Literal["draft", "live", "sunset", "gone"]


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
        return view(session, version)


def touched_by_end(ctx: Context, version_id: int) -> list[str]:
    """The consumers that may call a version now, by name: whom its end concerns."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
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


def _announce(session: Session, ctx: Context, version: ApiVersion, sunset_on: date) -> None:
    name, last = f"{version.api.name} {version.version}", f"{sunset_on:%-d %B %Y}"
    told = subscribers.members_of(session, subscribers.consumers_calling(session, version.id))
    notice = Notice(kind="version ends", fields={"version": name, "day": last}, page="/applications")
    notify(session, ctx, members(told), notice)
