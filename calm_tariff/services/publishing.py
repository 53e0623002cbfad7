"""Publishing: drafts become revisions that never change again, for whom and from when."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime
from typing import Literal

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.lifecycles import PLAN, move
from calm_tariff.core.periods import day_start, local_day, moment_of, month_of
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read, write
from calm_tariff.services import auditing, mailing, meters, stamps, subscriptions
from calm_tariff.services.context import ROLES, Context, zone_of
from calm_tariff.services.products import get
from calm_tariff.services.sheet_cells import Column
from calm_tariff.services.sheet_rows import SheetRow, differences, rows
from calm_tariff.services.tariff_sheet import Sheet, drop_draft, laid_out, plans_of, vocabulary_of
from calm_tariff.store.admission import Stay, Subscription
from calm_tariff.store.catalogue import Plan, PlanRevision, Product
from calm_tariff.store.people import Member

Existing = Literal["keep", "next period", "at date"]


@dataclass(frozen=True, slots=True)
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


def publish(
    ctx: Context, product_id: int, editions: Mapping[int, int], existing: Existing, note: str = "",
    on: date | None = None,
) -> Sheet:  # fmt: skip
    """Publish every draft of a sheet: each becomes its plan's next revision. `editions` are those of the plans whose
    drafts the publisher has seen, by plan.

    New subscribers get it at once; `existing` says whether those on the plan keep their revision, or
    move at the start of their next period, or on the day `on`, with notice. Raises `Conflict` where
    nothing is drafted, `Invalid` for a day that is not ahead, `Stale` where a draft is not as it was seen.
    """
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        product = get(session, product_id, lock=True)
        drafted = {plan.id: plan.edition for plan in plans_of(session, product_id, lock=True) if plan.draft}
        if drafted != dict(editions):
            words = "a draft was changed, begun or ended meanwhile; look at what would be published now"
            raise Stale(words, product.name, laid_out(session, product_id))
        publish_drafts(session, ctx, product_id, existing, note, on)
        return laid_out(session, product_id)


def publish_drafts(
    session: Session, ctx: Context, product_id: int, existing: Existing, note: str, on: date | None
) -> None:
    """Publish within the caller's transaction; see `publish`."""
    product = get(session, product_id, lock=True)
    drafted = [plan for plan in plans_of(session, product_id, lock=True) if plan.draft]
    if not drafted:
        raise Conflict("has no draft to publish", product.name)
    day = _change_day(session, ctx, existing, on)
    for plan in drafted:
        _publish(session, ctx, product, plan, day, note)
    stamps.touch(session, ctx)
    session.flush()


def revision(ctx: Context, revision_id: int) -> Revision:
    """A published revision as it was published. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        found = session.get(PlanRevision, revision_id)
        if found is None:
            raise NotFound("there is no such revision", str(revision_id))
        plan = found.plan
        vocabulary = vocabulary_of(session, get(session, plan.product_id))
        before = next((r for r in reversed(plan.revisions) if r.number < found.number), None)
        column = Column(plan.id, read(PlanTerms, found.terms), read(PlanTerms, before.terms) if before else None)
        shown = rows([Column(plan.id, column.terms, None)], vocabulary)
        changes = differences(column, vocabulary) if before else []
        return Revision(
            found.id, f"{plan.product.name} · {plan.name}", plan.id, plan.product_id, found.number, found.published_at,
            found.published_by, [row for row in shown if row.cells[0].sentences],
            [_in_words(change) for change in changes], [(r.id, r.number) for r in plan.revisions],
        )  # fmt: skip


def _change_day(session: Session, ctx: Context, existing: Existing, on: date | None) -> date | None:
    """The day from which those on a plan have its new revision; None where they keep theirs."""
    if existing == "keep":
        return None
    today = local_day(ctx.now_us, zone_of(session))
    if existing == "next period":
        return month_of(today).end
    if on is None or on <= today:
        raise Invalid("must be a day ahead", "on")
    return on


def _publish(session: Session, ctx: Context, product: Product, plan: Plan, day: date | None, note: str) -> None:
    assert plan.draft
    terms = read(PlanTerms, plan.draft.terms)
    before = plan.revisions[-1] if plan.revisions else None
    made = PlanRevision(
        plan_id=plan.id, number=before.number + 1 if before else 1, terms=write(terms), published_at=ctx.now,
        published_by=ctx.actor.name,
    )  # fmt: skip
    session.add(made)
    session.flush()
    if plan.state == "draft":
        plan.state = move(PLAN, plan.name, plan.state, "on sale")
    meters.seal(session, ctx, terms.meters())
    drop_draft(session, plan)
    if day and before:
        _move_subscribers(session, ctx, product, plan, made, before, day)
    auditing.note(
        session, ctx, f"published revision {made.number}", ("plan", plan.id, f"{product.name} · {plan.name}"),
        before.terms if before else None, made.terms, note,
    )  # fmt: skip


def _move_subscribers(
    session: Session, ctx: Context, product: Product, plan: Plan, made: PlanRevision, before: PlanRevision, day: date
) -> None:
    """End present stays with the day, begin stays under the new revision, and tell members.

    A trial goes on as it was agreed; what follows it is under the new revision.
    """
    change = moment_of(day_start(day, zone_of(session)))
    column = Column(plan.id, read(PlanTerms, made.terms), read(PlanTerms, before.terms))
    words = [_in_words(each) for each in differences(column, vocabulary_of(session, product))]
    query = (
        select(Subscription)
        .where(Subscription.plan_id == plan.id, Subscription.state != "ended")
        .options(selectinload(Subscription.stays))
    )
    told: set[int] = set()
    for subscription in session.scalars(query):
        _restay(session, subscription, made, change)
        told.add(subscription.application.consumer_id)
    for member in session.scalars(select(Member).where(Member.consumer_id.in_(told))):
        mailing.write(
            session, ctx, member.email, f"{product.name} · {plan.name} changes on {day:%-d %B %Y}",
            f"Dear {member.name},\n\nfrom {day:%-d %B %Y} these terms of {product.name} · {plan.name} "
            "change:\n\n" + "\n".join(f"  {w}" for w in words) + "\n\nUntil then nothing changes.\n",
        )  # fmt: skip


def _restay(session: Session, subscription: Subscription, made: PlanRevision, change: datetime) -> None:
    """Put a subscription under a revision from `change` on, leaving what is before and trials as they are."""
    charged = [s for s in subscription.stays if not s.trial]
    chain = [s for s in charged if s.due_at]
    if chain:
        _due(session, subscription, chain, made, change)
        return
    for stay in charged:
        if stay.start_at >= change:
            stay.revision_id = made.id
    present = next((s for s in charged if s.start_at < change and (s.end_at is None or s.end_at > change)), None)
    if present:
        after = present.end_at
        present.end_at = change
        session.add(Stay(subscription_id=subscription.id, revision_id=made.id, start_at=change, end_at=after))


def _due(session: Session, subscription: Subscription, chain: list[Stay], made: PlanRevision, change: datetime) -> None:
    """Have a revision be due from `change` on among what follows a trial that its units can end before or after."""
    trial = next(s for s in subscription.stays if s.trial)
    assert trial.end_at
    for stay in chain:
        if stay.due_at and stay.due_at >= change:
            stay.revision_id = made.id
    if all(stay.due_at != change for stay in chain):
        due = Stay(subscription_id=subscription.id, revision_id=made.id, start_at=change, due_at=change)
        subscription.stays.append(due)
    subscriptions.lay_out(subscription, trial.end_at)
    session.flush()


def _in_words(change: tuple[str, str, str]) -> str:
    term, was, becomes = change
    return f"{term}: {was or 'none'} → {becomes}"
