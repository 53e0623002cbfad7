"""Narrowing one's keys: to addresses that their calls may come from, and to operations that they may ask for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select

from calm_tariff.core import bounds
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.lifecycles import VALID_KEY
from calm_tariff.services.admit import credentials, owned
from calm_tariff.services.admit.credentials import KeyView
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.base.context import Context
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.products import Plan, ProductOperation


@dataclass(frozen=True, slots=True)
class OperationOffered:
    """An operation that an application's plans cover."""

    id: int
    label: str
    api: str


def offered(ctx: Context, application_id: int) -> list[OperationOffered]:
    """The operations that one's own application may call by its plans. Raises `NotFound` for another's."""
    with ctx.reading() as session:
        application = owned.application(session, ctx, application_id)
        sold = (
            select(ProductOperation.c.operation_id)
            .join(Plan, Plan.product_id == ProductOperation.c.product_id)
            .join(Subscription, Subscription.plan_id == Plan.id)
            .where(Subscription.application_id == application.id, Subscription.state != "ended")
        )
        query = select(Operation).where(Operation.id.in_(sold), Operation.retired_at.is_(None)).order_by(Operation.id)
        return [
            OperationOffered(o.id, o.label, f"{o.api_version.api.name} {o.api_version.version}")
            for o in session.scalars(query)
        ]


def narrow(ctx: Context, key_id: int, addresses: Sequence[str], operations: Sequence[int]) -> KeyView:
    """Narrow one's own key to addresses and operations; none of a kind bounds nothing. In force within a second. Raises
    `NotFound` for another's, `Conflict` for one that is good no more, `Invalid`, naming the field."""
    networks = [str(network) for network in bounds.networks(addresses, "addresses")]
    with ctx.transaction() as session:
        key = owned.key(session, ctx, key_id)
        if key.state not in VALID_KEY:
            raise Conflict(f"it is {key.state}; make a new one", key.label)
        may = {o.id for o in offered(ctx.joining(session), key.application_id)}
        for place, operation in enumerate(operations):
            if operation not in may and operation not in key.operations:
                raise Invalid("no plan of the application covers this operation", f"operations.{place}")
        before = {"addresses": key.addresses, "operations": key.operations}
        key.addresses, key.operations = networks, sorted(set(operations))
        after = {"addresses": key.addresses, "operations": key.operations}
        auditing.note(session, ctx, "narrowed a key", credentials.subject(key), before=before, after=after)
        stamps.touch(session, ctx)
        return credentials.key_view(key, ctx.now)
