"""Routes of products: how requests for their plans are decided (core.routes)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core import routes
from calm_tariff.core.routes import Route
from calm_tariff.core.sentences import route_in_words
from calm_tariff.formats.values import read
from calm_tariff.services.base.context import provider_of
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.meters import Meter, MeterOperation
from calm_tariff.store.compose.products import Plan, Product


def of(product: Product) -> Route:
    """A stored product's route."""
    return read(Route, product.route)


def checked(session: Session, route: Route, plans: Iterable[Plan], operations: Sequence[int]) -> Route:
    """A route for a product with these plans and operations. Raises `Invalid`, naming the field."""
    groups = session.scalars(select(ConsumerGroup.id)).all()
    counting = (
        select(Meter.key)
        .join(MeterOperation, MeterOperation.c.meter_id == Meter.id)
        .where(MeterOperation.c.operation_id.in_(operations))
    )
    named = any(rule.meter for rule in route.rules)
    return routes.checked(route, [p.id for p in plans], groups, session.scalars(counting).all() if named else ())


def group_names(session: Session) -> dict[int, str]:
    """The names of groups by id."""
    return {key: name for key, name in session.execute(select(ConsumerGroup.id, ConsumerGroup.name))}  # noqa: C416


def in_words(session: Session, product: Product) -> list[str]:
    """How a product's requests are decided, in sentences."""
    route = of(product)
    if not route.rules and not route.agreements:
        return route_in_words(route, {}, {}, "")
    names = {
        "plans": {p.id: p.name for p in product.plans},
        "groups": group_names(session),
    }
    meters = {key: name for key, name in session.execute(select(Meter.key, Meter.name))}  # noqa: C416
    return route_in_words(route, names, meters, provider_of(session).currency)
