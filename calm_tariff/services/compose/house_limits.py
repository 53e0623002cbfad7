"""Limits above all plans: provider-wide and of single API versions, and what a caller gets in the end."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import layers
from calm_tariff.core import limits as rules
from calm_tariff.core.errors import Invalid, NotFound, Stale
from calm_tariff.core.layers import House
from calm_tariff.core.limits import Limit, Pace, Quota, Rate, Window
from calm_tariff.core.sentences import limit_sentence
from calm_tariff.core.sheet_cells import SheetAction, SheetPart, parts_of
from calm_tariff.formats.values import read, write
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose import credential_fields
from calm_tariff.services.compose.meters import rule_of
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.apis import ApiVersion
from calm_tariff.store.compose.house_limits import HouseLimits
from calm_tariff.store.compose.meters import Meter


@dataclass(frozen=True, slots=True)
class _Many:
    """How stored limits are read."""

    limits: tuple[Limit, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class HouseView:
    """The limits of one place above the plans: of an API version, or of everything where it is None.

    `edition` is the ETag, 0 where none were ever kept.
    """

    api_version_id: int | None
    name: str
    limits: list[Any]
    sentences: list[list[SheetPart]]
    actions: list[SheetAction]
    edition: int


def everything(ctx: Context) -> list[HouseView]:
    """Provider-wide limits first, then those of every API version."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        kept = {h.api_version_id: h for h in session.scalars(select(HouseLimits))}
        versions = session.scalars(select(ApiVersion).where(ApiVersion.state != "gone").order_by(ApiVersion.id))
        places: list[tuple[int | None, str]] = [(None, "Every API")]
        places += [(v.id, f"{v.api.name} {v.version}") for v in versions]
        return [_view(place, name, kept.get(place)) for place, name in places]


def save(ctx: Context, api_version_id: int | None, edition: int, limits: Any) -> HouseView:
    """Keep the limits of one place. They hold from now on, for everybody. Raises `Stale` or `Invalid`."""
    ctx.actor.must_be("product manager", "operations")
    wanted = read(_Many, {"limits": limits}).limits
    _check(wanted)
    with ctx.transaction() as session:
        credential_fields.refuse_limits(session, ((f"limits[{n}]", limit) for n, limit in enumerate(wanted)))
        name = "Every API"
        if api_version_id is not None:
            version = session.get(ApiVersion, api_version_id)
            if version is None:
                raise NotFound("there is no such API version", str(api_version_id))
            name = f"{version.api.name} {version.version}"
        query = select(HouseLimits.id).where(
            HouseLimits.api_version_id.is_(None)
            if api_version_id is None
            else HouseLimits.api_version_id == api_version_id
        )
        there = session.scalar(query)
        kept = locked(session, HouseLimits, there) if there is not None else None
        if (kept.edition if kept else 0) != edition:
            raise Stale("somebody else has changed these limits meanwhile", name, _view(api_version_id, name, kept))
        before = list(kept.limits) if kept else []
        if kept is None:
            kept = HouseLimits(api_version_id=api_version_id, limits=write(wanted), edition=1)
            session.add(kept)
        else:
            kept.limits, kept.edition = write(wanted), kept.edition + 1
        session.flush()
        auditing.note(
            session,
            ctx,
            "changed limits above the plans",
            ("limits", kept.id, name),
            before={"limits": before},
            after={"limits": kept.limits},
        )
        stamps.touch(session, ctx)
        return _view(api_version_id, name, kept)


def limits_of(kept: HouseLimits) -> tuple[Limit, ...]:
    """Stored limits as the core's values."""
    return read(_Many, {"limits": kept.limits}).limits


def above_plans(session: Session, apart: bool = True) -> tuple[tuple[Limit, ...], tuple[Limit, ...]]:
    """The limits for everything, and those of each API version bound to its operations; `apart` with the name of their
    place before their own."""
    kept = {h.api_version_id: limits_of(h) for h in session.scalars(select(HouseLimits))}
    api: list[Limit] = []
    versions = select(ApiVersion).where(ApiVersion.id.in_(kept)).options(selectinload(ApiVersion.operations))
    for version in session.scalars(versions.order_by(ApiVersion.id)):
        name = f"{version.api.name} {version.version}"
        api += layers.placed(kept[version.id], (str(o.id) for o in version.operations), name if apart else "")
    return layers.for_all(kept.get(None, ()), layers.EVERYWHERE if apart else ""), tuple(api)


def house_of(session: Session, apart: bool = True) -> House:
    """What holds besides a plan for live calls now."""
    active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
    meters = [rule_of(meter) for meter in session.scalars(active)]
    provider, api = above_plans(session, apart)
    return House(provider=provider, api=api, counted_on=layers.counted_on(meters, "live"))


def _check(limits: tuple[Limit, ...]) -> None:
    names: set[str] = set()
    for place, limit in enumerate(limits):
        where = f"limits[{place}]"
        rules.check(limit, where)
        if limit.name in names:
            raise Invalid(f"another limit here is already named {limit.name!r}", f"{where}.name")
        if isinstance(limit, Quota):
            raise Invalid("allowances belong to plans; here stand rates, windows and pacing", f"{where}.kind")
        if limit.applies_to is not None:
            raise Invalid("a limit above the plans holds for every operation of its place", f"{where}.applies_to")
        names.add(limit.name)


def _view(place: int | None, name: str, kept: HouseLimits | None) -> HouseView:
    limits = limits_of(kept) if kept else ()
    taken = {limit.name for limit in limits}

    def free(word: str) -> str:
        return next(n for n in (word, *(f"{word} {i}" for i in range(2, 99))) if n not in taken)

    new: list[tuple[str, Limit]] = [
        ("Add a rate", Rate(name=free("Rate"), counted_per="everyone", calls=100, per_seconds=1, burst=200)),
        (
            "Add a window",
            Window(name=free("Window"), counted_per="consumer", calls=10_000, per_seconds=60, rolling=True),
        ),
        ("Add a pace", Pace(name=free("Pace"), counted_per="everyone", calls=100, per_seconds=1, max_wait_ms=250)),
    ]
    actions = [SheetAction(words, "limits.-", write(limit)) for words, limit in new]
    actions += [SheetAction(f"Take away {limit.name}", f"limits.{n}", None) for n, limit in enumerate(limits)]
    sentences = [parts_of(limit_sentence(limit, f"limits.{n}")) for n, limit in enumerate(limits)]
    return HouseView(
        api_version_id=place,
        name=name,
        limits=write(limits),
        sentences=sentences,
        actions=actions,
        edition=kept.edition if kept else 0,
    )
