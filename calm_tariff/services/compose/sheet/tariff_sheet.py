"""The tariff sheet: plans side by side, as drafts that save themselves beside their live terms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, lazyload, selectinload

from calm_tariff.core import terms as term_rules
from calm_tariff.core.errors import Conflict, NotFound, Stale
from calm_tariff.core.lifecycles import PLAN
from calm_tariff.core.sheet_cells import Column, SheetAction
from calm_tariff.core.sheet_rows import NamedMeter, SheetRow, Vocabulary, differences, rows
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.compose import credential_fields
from calm_tariff.services.compose.products import ProductView, get, meters_of, view
from calm_tariff.store.admit import subscribers
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.compose.products import Plan, PlanDraft, PlanRevision, Product


@dataclass(frozen=True, slots=True, kw_only=True)
class SheetPlan:
    """A column's head. `edition` is the ETag of its terms, drafted or as published; `moves` are the states it can be
    set to."""

    id: int
    name: str
    state: str
    groups: list[str]
    group_ids: list[int]
    subscriptions: int
    live_revision: int | None
    revision_id: int | None
    drafted: bool
    edition: int
    saved_at: datetime | None
    saved_by: str | None
    moves: list[str]
    terms: dict[str, Any]


@dataclass(frozen=True, slots=True)
class TermChange:
    """A change in words: `Ketch`, `Rate`, `up to 20 at once`, `up to 40 at once …`."""

    plan: str
    term: str
    was: str
    becomes: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Sheet:
    """A whole tariff sheet: drafts as people work on them; unchanged plans show their live terms.
    `withdrawn` plans stand on it no more, and are named with their last revision."""

    product: ProductView
    currency: str
    plans: list[SheetPlan]
    withdrawn: list[SheetPlan]
    rows: list[SheetRow]
    changes: list[TermChange]
    meters: list[str]


def sheet(ctx: Context, product_id: int) -> Sheet:
    """The tariff sheet of a product. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return laid_out(session, product_id)


def save_draft(ctx: Context, plan_id: int, edition: int, terms: Any) -> Sheet:
    """Keep a plan's terms as its draft. Terms equal to the live ones end the draft.

    Raises `Stale` where somebody saved in between, `Invalid` naming the field of the terms.
    """
    ctx.actor.must_be("product manager")
    drafted = read(PlanTerms, terms)
    with ctx.transaction() as session:
        plan = plan_of(session, plan_id)
        if plan.state == "withdrawn":
            raise Conflict("is withdrawn; its terms no longer change", plan.name)
        if plan.edition != edition:
            raise Stale("somebody else has changed this plan meanwhile", plan.name, laid_out(session, plan.product_id))
        keep_terms(session, ctx, plan, drafted)
        return laid_out(session, plan.product_id)


def discard_draft(ctx: Context, plan_id: int) -> Sheet:
    """Go back to the live revision's terms. Raises `Conflict` for a plan never published."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        plan = plan_of(session, plan_id)
        if not plan.revisions:
            raise Conflict("was never published; there is nothing to go back to", plan.name)
        drop_draft(session, plan)
        return laid_out(session, plan.product_id)


def keep_terms(session: Session, ctx: Context, plan: Plan, terms: PlanTerms) -> None:
    """Keep terms as a plan's draft, or end its draft where they are the live ones. Raises `Invalid`."""
    product = get(session, plan.product_id)
    known = meters_of(session, product)
    term_rules.check(terms, frozenset(m.key for m in known))
    credential_fields.refuse_terms(session, terms)
    live = plan.revisions[-1] if plan.revisions else None
    if live and read(PlanTerms, live.terms) == terms:
        drop_draft(session, plan)
    else:
        put_draft(session, ctx, plan, terms)
    session.flush()


def put_draft(session: Session, ctx: Context, plan: Plan, terms: PlanTerms) -> None:
    """Make terms a plan's draft."""
    plan.edition += 1
    if plan.draft is None:
        plan.draft = PlanDraft(plan_id=plan.id, terms=write(terms), saved_at=ctx.now, saved_by=ctx.actor.name)
        session.add(plan.draft)
        return
    plan.draft.terms = write(terms)
    plan.draft.saved_at, plan.draft.saved_by = ctx.now, ctx.actor.name


def drop_draft(session: Session, plan: Plan) -> None:
    """End a plan's draft, if it has one."""
    if plan.draft:
        plan.edition += 1
        session.delete(plan.draft)
        plan.draft = None
        session.flush()


def plan_of(session: Session, plan_id: int) -> Plan:
    """The stored plan, locked, its product before it: whoever publishes locks in that order, too. Raises
    `NotFound`."""
    product_id = session.scalar(select(Plan.product_id).where(Plan.id == plan_id))
    locked(session, Product, product_id)
    plan = locked(session, Plan, plan_id)
    if plan is None:
        raise NotFound("there is no such plan", str(plan_id))
    return plan


def columns(session: Session, product_id: int) -> list[tuple[Plan, Column]]:
    """The plans of a product that are not withdrawn, with their drafted and live terms."""
    made = []
    for plan in plans_of(session, product_id):
        if plan.state == "withdrawn":
            continue
        made.append((plan, column_of(plan)))
    return made


def column_of(plan: Plan) -> Column:
    """A plan's drafted and live terms."""
    live = read(PlanTerms, plan.revisions[-1].terms) if plan.revisions else None
    return Column(plan.id, read(PlanTerms, plan.draft.terms) if plan.draft else live or PlanTerms(), live)


def plans_of(session: Session, product_id: int, lock: bool = False) -> list[Plan]:
    """All plans of a product in their order, as they stand in the database now, if wanted locked."""
    query = (
        select(Plan)
        .where(Plan.product_id == product_id)
        .options(
            # What is joined would be read anew, too, and forget all that was loaded of it.
            lazyload(Plan.product),
            selectinload(Plan.draft),
            selectinload(Plan.revisions).lazyload(PlanRevision.plan),
            selectinload(Plan.groups),
        )
        .order_by(Plan.place)
        .execution_options(populate_existing=True)
    )
    if lock:
        all_locked(session, Plan, session.scalars(select(Plan.id).where(Plan.product_id == product_id)).all())
    return list(session.scalars(query))


def vocabulary_of(session: Session, product: Product) -> Vocabulary:
    """What the rows of a product's sheet speak of."""
    named = [NamedMeter(m.key, m.name) for m in meters_of(session, product)]
    several = len({o.api_version_id for o in product.operations}) > 1
    operations = [
        (str(o.id), f"{o.api_version.api.name} {o.api_version.version}  {o.label}" if several else o.label)
        for o in product.operations
        if o.retired_at is None
    ]
    return Vocabulary(named, provider_of(session).currency, operations)


def shown(columns: Sequence[Column], vocabulary: Vocabulary) -> list[SheetRow]:
    """The rows of a sheet, what its actions put into the terms written as the terms are."""
    return [
        replace(row, cells=[replace(cell, actions=[_written(a) for a in cell.actions]) for cell in row.cells])
        for row in rows(columns, vocabulary)
    ]


def _written(action: SheetAction) -> SheetAction:
    return replace(action, value=write(action.value))


def laid_out(session: Session, product_id: int) -> Sheet:
    """The sheet as it stands in the caller's transaction."""
    product = get(session, product_id)
    vocabulary = vocabulary_of(session, product)
    counts = subscribers.subscriptions_by_plan(session, product_id)
    both = [(p, column_of(p)) for p in plans_of(session, product_id)]
    standing = [(p, column) for p, column in both if p.state != "withdrawn"]
    changes = [
        TermChange(p.name, term, was, becomes)
        for p, column in standing
        if column.live
        for term, was, becomes in differences(column, vocabulary)
    ]
    return Sheet(
        product=view(session, product),
        currency=vocabulary.currency,
        plans=[_head(p, c, counts) for p, c in standing],
        withdrawn=[_head(p, c, counts) for p, c in both if p.state == "withdrawn"],
        rows=shown([column for _, column in standing], vocabulary),
        changes=changes,
        meters=[m.key for m in vocabulary.meters],
    )


def _head(p: Plan, column: Column, counts: dict[int, int]) -> SheetPlan:
    live = p.revisions[-1] if p.revisions else None
    return SheetPlan(
        id=p.id,
        name=p.name,
        state=p.state,
        groups=[g.name for g in p.groups],
        group_ids=[g.id for g in p.groups],
        subscriptions=counts.get(p.id, 0),
        live_revision=live.number if live else None,
        revision_id=live.id if live else None,
        drafted=p.draft is not None,
        edition=p.edition,
        saved_at=p.draft.saved_at if p.draft else None,
        saved_by=p.draft.saved_by if p.draft else None,
        moves=sorted(PLAN[p.state]),
        terms=write(column.terms),
    )
