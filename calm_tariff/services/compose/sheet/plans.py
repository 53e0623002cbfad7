"""The plans of a sheet as columns: added, cloned, ordered, shown to groups, closed and ended."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from calm_tariff.core import names
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.lifecycles import PLAN, move
from calm_tariff.core.terms import PlanTerms
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose import visibility
from calm_tariff.services.compose.products import get
from calm_tariff.services.compose.sheet.tariff_sheet import Sheet, column_of, laid_out, plan_of, plans_of, put_draft
from calm_tariff.store.compose.products import Plan

MOST = 8


def add(ctx: Context, product_id: int, name: str, like: int | None = None) -> Sheet:
    """A new plan at the right of the sheet, as a draft: empty, or with the terms of the plan `like`.

    Raises `Invalid` or `Conflict`.
    """
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        terms, seen_by = PlanTerms(), []
        if like is not None:
            model = plan_of(session, like)
            if model.product_id != product_id:
                raise Invalid("is a plan of another product", "like")
            terms, seen_by = column_of(model).terms, list(model.groups)
        plan = new_plan(session, ctx, product_id, name)
        plan.groups = seen_by
        put_draft(session, ctx, plan, terms)
        session.flush()
        return laid_out(session, product_id)


def new_plan(session: Session, ctx: Context, product_id: int, name: str) -> Plan:
    """Store a plan without terms at the right of the sheet. Raises `Invalid` or `Conflict`."""
    name = names.plain(name, "name")
    product = get(session, product_id, lock=True)
    all_plans = plans_of(session, product_id)
    _refuse_name(all_plans, name)
    if sum(p.state != "withdrawn" for p in all_plans) >= MOST:
        raise Conflict("a sheet holds at most eight plans", product.name)
    plan = Plan(
        product_id=product_id, name=name, place=max((p.place for p in all_plans), default=-1) + 1, state="draft"
    )
    session.add(plan)
    session.flush()
    auditing.note(session, ctx, "added a plan", ("plan", plan.id, f"{product.name} · {name}"))
    return plan


def rename(ctx: Context, plan_id: int, name: str) -> Sheet:
    """Give a plan another name. Raises `Invalid` or `Conflict`."""
    ctx.actor.must_be("product manager")
    name = names.plain(name, "name")
    with ctx.transaction() as session:
        plan = plan_of(session, plan_id)
        _refuse_name([p for p in plans_of(session, plan.product_id) if p.id != plan_id], name)
        before, plan.name = plan.name, name
        _noted(session, ctx, plan, "renamed a plan", before={"name": before}, after={"name": name})
        return laid_out(session, plan.product_id)


def reorder(ctx: Context, product_id: int, order: Sequence[int]) -> Sheet:
    """Put the plans of a sheet into another order; `order` names each of them once."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        get(session, product_id, lock=True)
        standing = {p.id: p for p in plans_of(session, product_id) if p.state != "withdrawn"}
        if sorted(order) != sorted(standing):
            raise Invalid("must name every plan of the sheet once", "order")
        for place, plan_id in enumerate(order):
            standing[plan_id].place = place
        session.flush()
        return laid_out(session, product_id)


def show_to(ctx: Context, plan_id: int, group_ids: Sequence[int]) -> Sheet:
    """Let only these groups see a plan; with none, everybody who sees the product."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        plan = plan_of(session, plan_id)
        before = [g.name for g in plan.groups]
        plan.groups = visibility.named(session, group_ids)
        session.flush()
        _noted(
            session,
            ctx,
            plan,
            "set who sees a plan",
            before={"groups": before},
            after={"groups": [g.name for g in plan.groups]},
        )
        return laid_out(session, plan.product_id)


def close(ctx: Context, plan_id: int) -> Sheet:
    """Sell a plan to nobody new. Those on it stay."""
    return _set(ctx, plan_id, "closed")


def reopen(ctx: Context, plan_id: int) -> Sheet:
    """Sell a closed plan again."""
    return _set(ctx, plan_id, "on sale")


def end(session: Session, ctx: Context, plan: Plan, moved: int) -> Sheet:
    """Withdraw a plan that nobody is left on, in the caller's transaction; `moved` subscriptions were. One on sale is
    closed first. Raises `Conflict` from a state that does not lead there."""
    if plan.state == "on sale":
        plan.state = move(PLAN, plan.name, plan.state, "closed")
    plan.state = move(PLAN, plan.name, plan.state, "withdrawn")
    if plan.product.strangers_plan_id == plan.id:
        plan.product.strangers_plan_id = None
    _noted(session, ctx, plan, "withdrew a plan", before=None, after={"moved": moved})
    stamps.touch(session, ctx)
    session.flush()
    return laid_out(session, plan.product_id)


def remove(ctx: Context, plan_id: int) -> Sheet:
    """Take a plan that was never published off the sheet. Raises `Conflict` for any other."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        plan = plan_of(session, plan_id)
        if plan.state != "draft" or plan.revisions:
            raise Conflict("was published; it can be closed and withdrawn, not removed", plan.name)
        product_id = plan.product_id
        _noted(session, ctx, plan, "removed a plan", before={"name": plan.name}, after=None)
        session.delete(plan)
        session.flush()
        return laid_out(session, product_id)


def _set(ctx: Context, plan_id: int, state: str) -> Sheet:
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        plan = plan_of(session, plan_id)
        before = plan.state
        plan.state = move(PLAN, plan.name, plan.state, state)
        _noted(session, ctx, plan, f"set a plan {state}", before={"state": before}, after={"state": state})
        session.flush()
        return laid_out(session, plan.product_id)


def _refuse_name(others: Sequence[Plan], name: str) -> None:
    if any(p.name == name for p in others):
        raise Conflict(f"there is already a plan {name!r} on this sheet", "name")


def _noted(
    session: Session,
    ctx: Context,
    plan: Plan,
    what: str,
    before: dict[str, object] | None,
    after: dict[str, object] | None,
) -> None:
    name = f"{plan.product.name} · {plan.name}"
    auditing.note(session, ctx, what, ("plan", plan.id, name), before=before, after=after)
