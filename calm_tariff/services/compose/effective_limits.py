"""What a caller gets in the end: every limit that applies to each operation of a plan, whatever layer it is of."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.core.sentences import limit_sentence
from calm_tariff.core.sheet_cells import SheetPart, parts_of
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose import house_limits
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, ProductOperation


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


def what_a_caller_gets(ctx: Context, plan_id: int, draft: bool = False) -> WhatACallerGets:
    """Every limit that applies to each operation a plan sells, with the layer it comes from.

    Of the live revision, or of the draft where asked for or where nothing is published yet.
    """
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        plan = session.get(Plan, plan_id)
        if plan is None:
            raise NotFound("there is no such plan", str(plan_id))
        drafted = plan.draft is not None and (draft or not plan.revisions)
        stored = plan.draft.terms if drafted and plan.draft else plan.revisions[-1].terms
        rows = _rows(session, plan.product_id, read(PlanTerms, stored))
        return WhatACallerGets(f"{plan.product.name} · {plan.name}", plan.product_id, drafted, rows)


def _rows(session: Session, product_id: int, terms: PlanTerms) -> list[EffectiveOperations]:
    house = house_limits.house_of(session, apart=False)
    names = dict(session.execute(select(Meter.key, Meter.name)).all())
    layered = house.with_plan(terms)
    query = (
        select(Operation)
        .join(ProductOperation, ProductOperation.c.operation_id == Operation.id)
        .where(ProductOperation.c.product_id == product_id, Operation.retired_at.is_(None))
        .order_by(Operation.api_version_id, Operation.path, Operation.method)
    )
    made: list[EffectiveOperations] = []
    for operation in session.scalars(query):
        applying = [
            EffectiveLimit(each.layer, each.limit.name, parts_of(limit_sentence(each.limit)))
            for each in layered
            if each.applies_to(str(operation.id))
        ]
        counted = sorted(names[key] for key, counted in house.counted_on.items() if str(operation.id) in counted)
        version = operation.api_version
        label = f"{version.api.name} {version.version}  {operation.label}"
        if made and made[-1].limits == applying and made[-1].meters == counted:
            made[-1].operations.append(label)
        else:
            made.append(EffectiveOperations([label], counted, applying))
    return made
