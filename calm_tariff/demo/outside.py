"""What the demo has billed outside: Chart Tiles, from the month charged last on. Most of who is on it is mapped; one is
mapped to a number that there is not, and one not at all."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date

from sqlalchemy import select

from calm_tariff.services.base.context import Context
from calm_tariff.services.settle.handoff import mapping, products
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.compose.products import Plan, Product

PRODUCT = "Chart Tiles"
PRICES: Mapping[str, str] = {"Ketch": "tiles-regular", "Schooner": "tiles-large"}
# Grebe Games is 2036 there: somebody has mistyped it.
CUSTOMERS: Mapping[str, str] = {
    "Ospreyview Drones": "HL-2041",
    "Wrackline Research": "HL-2057",
    "Grebe Games": "HL-2063",
}


def bill_outside(ctx: Context, since: date) -> None:
    """Have it billed outside from a month on, and say who is whom there."""
    with ctx.transaction() as session:
        product = session.scalars(select(Product.id).where(Product.name == PRODUCT)).one()
        plans = dict(session.execute(select(Plan.name, Plan.id).where(Plan.product_id == product)).all())
        consumers = dict(session.execute(select(Consumer.name, Consumer.id)).all())
    products.begin(ctx, product, since)
    for plan, price in PRICES.items():
        mapping.set_plan_price(ctx, plans[plan], price)
    for consumer, customer in CUSTOMERS.items():
        mapping.set_customer(ctx, consumers[consumer], customer)
