"""What is open to callers without a credential: whole products, and single operations in the sandbox."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose.apis.operations import subject
from calm_tariff.store.base.locking import all_locked, locked
from calm_tariff.store.compose.apis import ApiVersion, Operation
from calm_tariff.store.compose.products import Product, ProductOperation


def plan_for(session: Session, product: Product, plan_id: int | None, operations: Sequence[int]) -> int | None:
    """The plan under whose limits anyone may call a product that is to have these operations. Raises `Invalid` for one
    that is not this product's or not on sale (the one that is in force may be closed by now), for what not everyone
    sees, and for operations that are sold open elsewhere."""
    if plan_id is None:
        return None
    plan = next((each for each in product.plans if each.id == plan_id), None)
    goes_on = plan is not None and plan.id == product.strangers_plan_id and plan.state == "closed"
    if plan is None or not (plan.state == "on sale" or goes_on):
        raise Invalid("choose a plan of this product that is on sale", "strangers_plan")
    if product.groups or plan.groups:
        raise Invalid("what is for some groups alone cannot be sold open to anyone", "strangers_plan")
    query = (
        select(Product.name)
        .join(ProductOperation, ProductOperation.c.product_id == Product.id)
        .where(Product.strangers_plan_id.is_not(None), Product.id != product.id)
        .where(ProductOperation.c.operation_id.in_(operations))
    )
    other = session.scalar(query.limit(1))
    if other is not None:
        raise Invalid(f"{other} sells some of these operations open already", "strangers_plan")
    return plan.id


def let_anyone_try(ctx: Context, version_id: int, ids: Sequence[int], allowed: bool) -> int:
    """Let operations of a version be tried in the sandbox without an account, or no longer; returns how many changed.
    Raises `Conflict` for one that has no sandbox."""
    ctx.actor.must_be("product manager")
    with ctx.transaction() as session:
        version = locked(session, ApiVersion, version_id)
        if version is None:
            raise NotFound("there is no such API version", str(version_id))
        query = select(Operation.id).where(Operation.id.in_(ids), Operation.api_version_id == version_id)
        found = [
            o for o in all_locked(session, Operation, session.scalars(query).all()) if o.tried_by_anyone != allowed
        ]
        for operation in found:
            if allowed and not version.sandbox_url and operation.answers == "back end":
                words = "has no sandbox: neither a sandbox back end nor an example to answer with"
                raise Conflict(words, operation.label)
            operation.tried_by_anyone = allowed
        if found:
            words = "let anyone try operations in the sandbox" if allowed else "let nobody try operations without a key"
            after = {"operations": [o.label for o in found]}
            auditing.note(session, ctx, words, subject(version), after=after)
            stamps.touch(session, ctx)
        return len(found)
