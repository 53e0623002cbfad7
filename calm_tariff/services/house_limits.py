"""Limits above all plans: provider-wide and of single API versions, and what a caller gets in the end."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import limits as rules
from calm_tariff.core.errors import Invalid, NotFound, Stale
from calm_tariff.core.layers import limits_of_a_plan
from calm_tariff.core.limits import Limit, Pace, Quota, Rate, Window
from calm_tariff.core.sentences import limit_sentence
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services import auditing, credential_fields, stamps
from calm_tariff.services.context import ROLES, Context
from calm_tariff.services.meters import rule_of
from calm_tariff.services.sheet_cells import SheetAction, SheetPart, parts_of
from calm_tariff.store.catalogue import ApiVersion, HouseLimits, Meter, Operation, Plan, ProductOperation


@dataclass(frozen=True, slots=True)
class _Many:
    """How stored limits are read."""

    limits: tuple[Limit, ...]


@dataclass(frozen=True, slots=True)
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


@dataclass(frozen=True, slots=True)
class EffectiveLimit:
    """A limit as a caller meets it. `layer`: provider, api, plan, operation."""

    layer: str
    name: str
    sentence: list[SheetPart]


@dataclass(frozen=True, slots=True)
class EffectiveOperations:
    """Operations that meet the same limits, in the order tested."""

    operations: list[str]
    meters: list[str]
    limits: list[EffectiveLimit]


@dataclass(frozen=True, slots=True)
class WhatACallerGets:
    """A plan from its caller's side; `drafted` where its draft is shown, not its live revision."""

    plan: str
    product_id: int
    drafted: bool
    rows: list[EffectiveOperations]


def everything(ctx: Context) -> list[HouseView]:
    """Provider-wide limits first, then those of every API version."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
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
        query = select(HouseLimits).where(
            HouseLimits.api_version_id.is_(None)
            if api_version_id is None
            else HouseLimits.api_version_id == api_version_id
        )
        kept = session.scalar(query.with_for_update())
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
            session, ctx, "changed limits above the plans", ("limits", kept.id, name), {"limits": before},
            {"limits": kept.limits},
        )  # fmt: skip
        stamps.touch(session, ctx)
        return _view(api_version_id, name, kept)


def limits_of(kept: HouseLimits) -> tuple[Limit, ...]:
    """Stored limits as the core's values."""
    return read(_Many, {"limits": kept.limits}).limits


def named_apart(limits: tuple[Limit, ...], place: str, operations: tuple[str, ...] | None) -> tuple[Limit, ...]:
    """Limits with the name of their place before their own, for just the operations there: so they are
    told from a plan's in receipts and in what callers hear."""
    return tuple(replace(limit, name=f"{place}: {limit.name}", applies_to=operations) for limit in limits)


def what_a_caller_gets(ctx: Context, plan_id: int, draft: bool = False) -> WhatACallerGets:
    """Every limit that applies to each operation a plan sells, with the layer it comes from.

    Of the live revision, or of the draft where asked for or where nothing is published yet.
    """
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        plan = session.get(Plan, plan_id)
        if plan is None:
            raise NotFound("there is no such plan", str(plan_id))
        drafted = plan.draft is not None and (draft or not plan.revisions)
        stored = plan.draft.terms if drafted and plan.draft else plan.revisions[-1].terms
        rows = _rows(session, plan.product_id, read(PlanTerms, stored))
        return WhatACallerGets(f"{plan.product.name} · {plan.name}", plan.product_id, drafted, rows)


def _rows(session: Session, product_id: int, terms: PlanTerms) -> list[EffectiveOperations]:
    active = select(Meter).where(Meter.state == "active").options(selectinload(Meter.operations))
    meters = list(session.scalars(active))
    operations_of = {m.key: tuple(sorted(rule_of(m).operations)) for m in meters if "live" in m.environments}
    house = {h.api_version_id: limits_of(h) for h in session.scalars(select(HouseLimits))}
    query = (
        select(Operation)
        .join(ProductOperation, ProductOperation.c.operation_id == Operation.id)
        .where(ProductOperation.c.product_id == product_id, Operation.retired_at.is_(None))
        .order_by(Operation.api_version_id, Operation.path, Operation.method)
    )
    made: list[EffectiveOperations] = []
    for operation in session.scalars(query):
        own = house.get(operation.api_version_id, ())
        layered = limits_of_a_plan(terms, operations_of, house.get(None, ()), own)
        applying = [
            EffectiveLimit(each.layer, each.limit.name, parts_of(limit_sentence(each.limit)))
            for each in layered
            if each.limit.applies_to is None or str(operation.id) in each.limit.applies_to
        ]
        counted = sorted(m.name for m in meters if str(operation.id) in operations_of.get(m.key, ()))
        version = operation.api_version
        label = f"{version.api.name} {version.version}  {operation.label}"
        if made and made[-1].limits == applying and made[-1].meters == counted:
            made[-1].operations.append(label)
        else:
            made.append(EffectiveOperations([label], counted, applying))
    return made


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
        ("Add a window",
         Window(name=free("Window"), counted_per="consumer", calls=10_000, per_seconds=60, rolling=True)),
        ("Add a pace", Pace(name=free("Pace"), counted_per="everyone", calls=100, per_seconds=1, max_wait_ms=250)),
    ]  # fmt: skip
    actions = [SheetAction(words, "limits.-", write(limit)) for words, limit in new]
    actions += [SheetAction(f"Take away {limit.name}", f"limits.{n}", None) for n, limit in enumerate(limits)]
    sentences = [parts_of(limit_sentence(limit, f"limits.{n}")) for n, limit in enumerate(limits)]
    return HouseView(place, name, write(limits), sentences, actions, kept.edition if kept else 0)
