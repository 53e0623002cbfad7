"""Alerts that the demo's consumers have set: some of them reached already."""

from __future__ import annotations

from decimal import Decimal

from calm_tariff.demo.owners import owner_of
from calm_tariff.services.base.context import Context
from calm_tariff.services.observe import alerts, allowances
from calm_tariff.services.observe.alerts import AlertTyped

# By consumer: of each of its allowances so many percent, and amounts of the month's charge.
ALERTS: tuple[tuple[str, int, tuple[str, ...]], ...] = (
    ("Gannet Ferries", 80, ("50", "250")),
    ("Saltmarsh Kayak Club", 90, ()),
)


def set_alerts(ctx: Context) -> None:
    """Have each set by the consumer's owner."""
    for consumer, percent, amounts in ALERTS:
        owner = owner_of(ctx, consumer)
        for gauge in allowances.own(owner):
            of = AlertTyped(subscription_id=gauge.subscription_id, allowance=gauge.name, percent=percent)
            alerts.make(owner, of)
        for amount in amounts:
            alerts.make(owner, AlertTyped(amount=Decimal(amount)))
