"""Meters: what counts, sealed once charges depend on it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Literal

from slugify import slugify
from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core import meters as rules
from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.lifecycles import METER, move
from calm_tariff.core.meters import Environment, Measure
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit import subscribers
from calm_tariff.store.base.locking import locked
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan

State = Literal["active", "paused", "archived"]


@dataclass(frozen=True, slots=True)
class MeterTyped:
    """A meter as somebody typed it. `outcomes` and `credentials` empty mean every one."""

    name: str
    operations: Sequence[int]
    outcomes: Sequence[str]
    measure: Measure = "calls"
    environments: Sequence[Environment] = ("live",)
    credentials: Sequence[str] = ()
    header: str | None = None


@dataclass(frozen=True, slots=True)
class MeterView:
    """A meter. `priced_by` names the plans on sale or held that price or limit by it; `edition` is its ETag."""

    id: int
    key: str
    name: str
    measure: str
    header: str | None
    outcomes: list[str]
    environments: list[str]
    credentials: list[str]
    operations: list[int]
    operation_labels: list[str]
    state: str
    sealed_at: datetime | None
    priced_by: list[str]
    edition: int


@dataclass(frozen=True, slots=True)
class Dependent:
    """A consumer whose charges or allowances read a meter now, and by which plan."""

    consumer_id: int
    consumer: str
    plan: str


def everything(ctx: Context) -> list[MeterView]:
    """All meters by name."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(Meter).options(selectinload(Meter.operations)).order_by(Meter.name)
        priced = _priced_by(session)
        return [_view(meter, priced) for meter in session.scalars(query)]


def one(ctx: Context, meter_id: int) -> MeterView:
    """One meter. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _view(_get(session, meter_id), _priced_by(session))


def create(ctx: Context, typed: MeterTyped, key: str = "") -> MeterView:
    """A new meter. Its key is made from its name unless given. Raises `Invalid` or `Conflict`."""
    ctx.actor.must_be("product manager")
    key = key or slugify(typed.name, separator="_", max_length=40)
    if not key:
        raise Invalid("must have letters or digits", "name")
    with ctx.transaction() as session:
        if session.scalar(select(Meter).where(Meter.key == key)):
            raise Conflict(f"there is already a meter {key!r}", "name")
        meter = Meter(key=key, state="active", created_at=ctx.now, edition=1)
        _set(session, meter, typed)
        session.add(meter)
        session.flush()
        auditing.note(session, ctx, "made a meter", _subject(meter), after=_terms(meter))
        stamps.touch(session, ctx)
        return _view(meter, {})


def save(ctx: Context, meter_id: int, edition: int, typed: MeterTyped) -> MeterView:
    """Change a meter; once sealed, only its name. Raises `Stale` or `Conflict`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        meter = _get(session, meter_id, lock=True)
        if meter.edition != edition:
            raise Stale("somebody else has changed this meter meanwhile", meter.name, _view(meter, {}))
        before, counted = _terms(meter), rule_of(meter)
        _set(session, meter, typed)
        if meter.sealed_at and rule_of(meter) != counted:
            raise Conflict("is sealed, because charges depend on what it counts; clone it instead", meter.name)
        meter.edition += 1
        auditing.note(session, ctx, "changed a meter", _subject(meter), before=before, after=_terms(meter))
        stamps.touch(session, ctx)
        return _view(meter, _priced_by(session))


def set_state(ctx: Context, meter_id: int, state: State) -> MeterView:
    """Pause a meter, let it count again, or archive it. While it does not count, nothing is charged by it."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        meter = _get(session, meter_id, lock=True)
        before = meter.state
        meter.state = move(METER, meter.name, meter.state, state)
        meter.edition += 1
        auditing.note(
            session, ctx, f"set a meter {state}", _subject(meter), before={"state": before}, after={"state": state}
        )
        stamps.touch(session, ctx)
        return _view(meter, _priced_by(session))


def clone(ctx: Context, meter_id: int, name: str) -> MeterView:
    """A new, unsealed meter that counts the same. Raises `Invalid` or `Conflict`."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        typed = typed_of(_get(session, meter_id))
    return create(ctx, replace(typed, name=name.strip()))


def dependents(ctx: Context, meter_id: int) -> list[Dependent]:
    """Whose charges or allowances read a meter now: whom pausing or archiving it concerns."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        meter = _get(session, meter_id)
        found = {
            Dependent(consumer.id, consumer.name, f"{r.plan.product.name} · {r.plan.name}")
            for consumer, r in subscribers.revisions_in_force(session, ctx.now)
            if meter.key in read(PlanTerms, r.terms).meters()
        }
        return sorted(found, key=lambda d: (d.consumer, d.plan))


def rule_of(meter: Meter) -> rules.Meter:
    """A stored meter as the core's rule, its operations named by id."""
    environments: tuple[Environment, ...] = tuple(meter.environments)
    measure: Measure = meter.measure  # type: ignore[assignment]
    return rules.Meter(
        key=meter.key,
        measure=measure,
        operations=frozenset(str(o.id) for o in meter.operations),
        outcomes=tuple(sorted(meter.outcomes)),
        environments=tuple(sorted(environments)),
        header=meter.header,
        credentials=tuple(sorted(meter.credentials)),
    )


def typed_of(meter: Meter) -> MeterTyped:
    """A stored meter as somebody would have typed it."""
    rule = rule_of(meter)
    return MeterTyped(
        name=meter.name,
        operations=[o.id for o in meter.operations],
        outcomes=rule.outcomes,
        measure=rule.measure,
        environments=rule.environments,
        credentials=rule.credentials,
        header=rule.header,
    )


def seal(session: Session, ctx: Context, keys: Sequence[str]) -> None:
    """Seal the meters a revision being published uses."""
    for meter in session.scalars(select(Meter).where(Meter.key.in_(keys), Meter.sealed_at.is_(None))):
        meter.sealed_at = ctx.now
        meter.edition += 1
        auditing.note(session, ctx, "sealed a meter", _subject(meter))


def _set(session: Session, meter: Meter, typed: MeterTyped) -> None:
    found = session.scalars(select(Operation).where(Operation.id.in_(typed.operations))).all()
    if len(found) != len(set(typed.operations)):
        raise Invalid("names an operation that is not there", "operations")
    meter.name, meter.measure, meter.header = names.plain(typed.name, "name"), typed.measure, typed.header or None
    meter.outcomes, meter.environments = list(typed.outcomes), list(typed.environments)
    meter.credentials, meter.operations = list(typed.credentials), list(found)
    rules.check(rule_of(meter))


def _priced_by(session: Session) -> dict[str, list[str]]:
    """Plans by meter key, from the newest revision of every plan that is not withdrawn."""
    found: dict[str, list[str]] = {}
    query = select(Plan).where(Plan.state != "withdrawn").options(selectinload(Plan.revisions)).order_by(Plan.id)
    for plan in session.scalars(query):
        if plan.revisions:
            for key in read(PlanTerms, plan.revisions[-1].terms).meters():
                found.setdefault(key, []).append(f"{plan.product.name} · {plan.name}")
    return found


def _get(session: Session, meter_id: int, lock: bool = False) -> Meter:
    query = select(Meter).where(Meter.id == meter_id).options(selectinload(Meter.operations))
    if lock:
        locked(session, Meter, meter_id)
    found = session.scalar(query.execution_options(populate_existing=lock))
    if found is None:
        raise NotFound("there is no such meter", str(meter_id))
    return found


def _subject(meter: Meter) -> tuple[str, int, str]:
    return ("meter", meter.id, meter.name)


def _view(meter: Meter, priced: dict[str, list[str]]) -> MeterView:
    return MeterView(
        id=meter.id,
        key=meter.key,
        name=meter.name,
        measure=meter.measure,
        header=meter.header,
        outcomes=list(meter.outcomes),
        environments=list(meter.environments),
        credentials=list(meter.credentials),
        operations=[o.id for o in meter.operations],
        operation_labels=[o.label for o in meter.operations],
        state=meter.state,
        sealed_at=meter.sealed_at,
        priced_by=priced.get(meter.key, []),
        edition=meter.edition,
    )


def _terms(meter: Meter) -> dict[str, object]:
    return {
        "name": meter.name,
        "measure": meter.measure,
        "header": meter.header,
        "outcomes": list(meter.outcomes),
        "environments": list(meter.environments),
        "credentials": list(meter.credentials),
        "operations": [o.label for o in meter.operations],
    }
