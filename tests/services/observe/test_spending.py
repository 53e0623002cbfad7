"""An allowance that is spent, or nearly, is an event: once in each window, where somebody listens."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from sqlalchemy import select

from calm_tariff.services.base.context import Actor
from calm_tariff.services.house import endpoints
from calm_tariff.services.house.endpoints import EndpointTyped
from calm_tariff.services.observe import spending
from calm_tariff.store.base.events import Event
from calm_tariff.store.observe.alerts import AllowanceTold
from tests.office import Office
from tests.services.observe.test_alerts import used


def listen(office: Office, *wants: str) -> None:
    own = replace(office.ctx, sealing_secret="the one that seals").acting(Actor("Tomas", frozenset({"operations"})))
    endpoints.make(own, EndpointTyped(name="Ledger", url="http://93.184.215.14/hook", wants=wants))


def told(office: Office) -> list[tuple[str, int | None, dict[str, Any]]]:
    with office.ctx.transaction() as session:
        found = session.scalars(select(Event).where(Event.type.startswith("allowance.")).order_by(Event.id))
        return [(each.type, each.consumer_id, each.detail) for each in found]


def test_it_is_told_at_ninety_percent_and_when_it_is_spent_once_in_each_window(office: Office) -> None:
    listen(office, "allowance.*")
    used(office, 89)
    assert spending.look(office.ctx) == 0
    used(office, 1, tail=89)
    assert spending.look(office.ctx) == 1 and spending.look(office.ctx) == 0
    used(office, 10, tail=90)
    assert spending.look(office.ctx) == 1 and spending.look(office.ctx) == 0
    whose = office.consumers[0].member.consumer_id
    assert [(of_type, consumer, of["percent"], of["used"], of["units"]) for of_type, consumer, of in told(office)] == [
        ("allowance.nearly_spent", whose, 90, "90", "100"),
        ("allowance.spent", whose, 100, "100", "100"),
    ]
    assert told(office)[0][2]["window_start"] == "2026-08-31T23:00:00+00:00"
    office.clock.forward(days=30)
    assert spending.look(office.ctx) == 0
    used(office, 100, tail=100)
    assert spending.look(office.ctx) == 1 and [one[0] for one in told(office)[2:]] == ["allowance.spent"]


def test_where_nobody_listens_nothing_is_worked_out_and_what_was_told_long_ago_is_forgotten(office: Office) -> None:
    used(office, 100)
    listen(office, "key.*")
    assert spending.look(office.ctx) == 0 and told(office) == []
    listen_too = replace(office.ctx, sealing_secret="x").acting(Actor("Tomas", frozenset({"owner"})))
    endpoints.make(listen_too, EndpointTyped(name="All", url="http://93.184.215.14/hook"))
    assert spending.look(office.ctx) == 1
    office.clock.forward(days=401)
    spending.look(office.ctx)
    with office.ctx.transaction() as session:
        assert session.scalars(select(AllowanceTold)).all() == []
