"""A consumer has one trial of a product: whoever ends it and asks anew, or asks for another plan or application of
theirs, begins with the charges."""

from __future__ import annotations

from dataclasses import replace

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict
from calm_tariff.core.terms import PlanTerms, Trial
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.subscriptions import TrialHad
from calm_tariff.store.compose.products import Plan


def had(session: Session, consumer_id: int | None, product_id: int) -> bool:
    """Whether a consumer has had, or has, its trial of a product."""
    return consumer_id is not None and session.get(TrialHad, (consumer_id, product_id)) is not None


def refuse_another(plan: Plan, terms: PlanTerms, was_had: bool) -> None:
    """Refuse a plan that is a trial alone to whoever has had theirs. Raises `Conflict`."""
    if was_had and terms.trial is not None and terms.trial.alone:
        raise Conflict(f"the trial of {plan.product.name} was had already, and {plan.name} is nothing else", "plan_id")


def begin(
    session: Session, ctx: Context, consumer_id: int, plan: Plan, terms: PlanTerms, *, given: int | None = None
) -> Trial | None:
    """The trial that a subscription to a plan begins with, if one: of two that begin at the same moment, one has it.
    Days that are `given` by whoever granted it are had in any case. Raises `Conflict` where the plan is nothing but a
    trial that was had."""
    if terms.trial is None and given is None:
        return None
    kept = insert(TrialHad).values(consumer_id=consumer_id, product_id=plan.product_id, begun_at=ctx.now)
    first = session.connection().execute(kept.prefix_with("IGNORE")).rowcount == 1
    if given is not None:
        return replace(terms.trial, days=given) if terms.trial else Trial(days=given)
    refuse_another(plan, terms, not first)
    return terms.trial if first else None
