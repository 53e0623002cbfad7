"""Publishing: drafts become revisions that never change again."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound, Stale
from calm_tariff.core.lifecycles import PLAN, move
from calm_tariff.core.sheet_cells import Column
from calm_tariff.core.sheet_rows import SheetRow, differences
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.compose import meters
from calm_tariff.services.compose.products import get
from calm_tariff.services.compose.sheet.tariff_sheet import drop_draft, laid_out, plans_of, shown, vocabulary_of
from calm_tariff.store.compose.products import Plan, PlanRevision, Product


@dataclass(frozen=True, slots=True, kw_only=True)
class Revision:
    """A published revision, readable for ever. `others` are all revisions of the plan as (id, number)."""

    id: int
    plan: str
    plan_id: int
    product_id: int
    number: int
    published_at: datetime
    published_by: str
    rows: list[SheetRow]
    changes: list[str]
    others: list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class Published:
    """A plan with the revision just published and the one before it."""

    plan: Plan
    revision: PlanRevision
    before: PlanRevision | None


def publish_drafts(session: Session, ctx: Context, product: Product, note: str) -> list[Published]:
    """Publish every draft of a product, which is locked, in the caller's transaction: each becomes its plan's next
    revision, which new subscribers get at once. Raises `Conflict` where nothing is drafted.

    What becomes of those on the plans already, `services.admit.carrying_over` says.
    """
    drafted = [plan for plan in plans_of(session, product.id, lock=True) if plan.draft]
    if not drafted:
        raise Conflict("has no draft to publish", product.name)
    made = [_publish(session, ctx, product, plan, note) for plan in drafted]
    stamps.touch(session, ctx)
    session.flush()
    return made


def refuse_unseen(session: Session, product: Product, editions: Mapping[int, int]) -> None:
    """Raise `Stale` unless `editions` are those of the plans with drafts, by plan: what the publisher has seen."""
    drafted = {plan.id: plan.edition for plan in plans_of(session, product.id, lock=True) if plan.draft}
    if drafted != dict(editions):
        words = "a draft was changed, begun or ended meanwhile; look at what would be published now"
        raise Stale(words, product.name, laid_out(session, product.id))


def revision(ctx: Context, revision_id: int) -> Revision:
    """A published revision as it was published. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(PlanRevision, revision_id)
        if found is None:
            raise NotFound("there is no such revision", str(revision_id))
        plan = found.plan
        vocabulary = vocabulary_of(session, get(session, plan.product_id))
        before = next((r for r in reversed(plan.revisions) if r.number < found.number), None)
        column = Column(plan.id, read(PlanTerms, found.terms), read(PlanTerms, before.terms) if before else None)
        rows = shown([Column(plan.id, column.terms, None)], vocabulary)
        changes = differences(column, vocabulary) if before else []
        return Revision(
            id=found.id,
            plan=f"{plan.product.name} · {plan.name}",
            plan_id=plan.id,
            product_id=plan.product_id,
            number=found.number,
            published_at=found.published_at,
            published_by=found.published_by,
            rows=[row for row in rows if row.cells[0].sentences],
            changes=[_in_words(change) for change in changes],
            others=[(r.id, r.number) for r in plan.revisions],
        )


def changes_in_words(session: Session, published: Published) -> list[str]:
    """What a revision changes against the one before it, a line for each term."""
    if published.before is None:
        return []
    column = Column(published.plan.id, terms_of(published.revision), terms_of(published.before))
    return [_in_words(each) for each in differences(column, vocabulary_of(session, published.plan.product))]


def terms_of(revision: PlanRevision) -> PlanTerms:
    """A stored revision's terms."""
    return read(PlanTerms, revision.terms)


def _publish(session: Session, ctx: Context, product: Product, plan: Plan, note: str) -> Published:
    assert plan.draft
    terms = read(PlanTerms, plan.draft.terms)
    before = plan.revisions[-1] if plan.revisions else None
    made = PlanRevision(
        plan_id=plan.id,
        number=before.number + 1 if before else 1,
        terms=write(terms),
        published_at=ctx.now,
        published_by=ctx.actor.name,
    )
    session.add(made)
    session.flush()
    if plan.state == "draft":
        plan.state = move(PLAN, plan.name, plan.state, "on sale")
    meters.seal(session, ctx, terms.meters())
    drop_draft(session, plan)
    auditing.note(
        session,
        ctx,
        f"published revision {made.number}",
        ("plan", plan.id, f"{product.name} · {plan.name}"),
        before=before.terms if before else None,
        after=made.terms,
        why=note,
    )
    return Published(plan, made, before)


def _in_words(change: tuple[str, str, str]) -> str:
    term, was, becomes = change
    return f"{term}: {was or 'none'} → {becomes}"
