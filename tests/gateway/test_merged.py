"""Calls go on when one organisation is merged into another, and what is counted for an organisation as a whole is
counted with the other's from then on: by the gateway, after a restart, and on the gauges."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import func, select

from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.observe import allowances, merging, traffic
from calm_tariff.services.serve import receipts
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.settle.money_documents import MoneyLine
from tests.gateway.simulated import Simulated
from tests.office import PASSWORD, Office, terms

OCTOBER = datetime(2026, 9, 30, 23, tzinfo=UTC)  # midnight in Lisbon


def quota(name: str, per: str, units: int) -> dict[str, Any]:
    of = {"kind": "quota", "name": name, "counted_per": per, "units": units, "meter": "forecast_calls"}
    return {**of, "every": "month", "aligned": "calendar", "when_spent": "refuse"}


@pytest.fixture(params=["memory", "redis"])
def here(office: Office, tmp_path: Path, request: pytest.FixtureRequest, redis_url: str) -> Iterator[Simulated]:
    limits = [quota("Month", "subscription", 6), quota("Ours", "consumer", 9), quota("Tenants", "header:X-Tenant", 4)]
    office.draft("Ketch", {**terms(), "limits": limits})
    office.publish("next period")
    office.clock.now = OCTOBER
    made = Simulated(office, tmp_path, redis_url if request.param == "redis" else "")
    yield made
    made.close()


def merge(here: Simulated) -> None:
    ferries, kayaks = (c.member.own_consumer for c in here.office.consumers)
    merging.merge(here.office.manager, kayaks, ferries, "Kayaks")


def test_what_is_counted_for_all_of_it_is_counted_with_the_others(here: Simulated) -> None:
    ferries, kayaks = (c.secret for c in here.office.consumers)
    tenant = {"x_tenant": "harbour"}
    for _ in range(3):
        here.call(ferries, **tenant)
    for _ in range(2):
        here.call(kayaks, **tenant)
    here.office.clock.forward(minutes=5)
    merge(here)
    # A gateway that does not know of it yet decides as before, and its call is recorded under the other's id.
    assert here.left(kayaks, **tenant) == {"month": 3, "ours": 6, "tenants": 1}
    here.learn()
    here.office.clock.forward(minutes=5)
    assert here.left(kayaks, **tenant) == {"month": 2, "ours": 5, "tenants": 0}
    assert here.left(ferries, x_tenant="dock") == {"month": 2, "ours": 4, "tenants": 3}
    assert here.call(kayaks, **tenant).status == 429
    here.restart()
    assert here.left(kayaks, x_tenant="dock") == {"month": 1, "ours": 3, "tenants": 2}
    assert here.call(ferries, **tenant).status == 429
    here.ship()
    owner = sessions.who(
        here.office.ctx, MEMBERS, sessions.sign_in(here.office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD)
    )
    own = here.office.ctx.acting(owner)
    gauges = sorted((g.application, g.name, int(g.used)) for g in allowances.own(own))
    assert gauges == [
        ("Ferries app", "Month", 4),
        ("Ferries app", "Ours", 6),
        ("Ferries app", "Tenants", 4),
        ("Kayaks app", "Month", 5),
        ("Kayaks app", "Ours", 6),
        ("Kayaks app", "Tenants", 4),
    ]
    for secret in (kayaks, ferries, ferries):
        here.call(secret, x_tenant="quay")
    assert [here.call(secret).status for secret in (ferries, kayaks)] == [429, 429]

    here.ship()
    here.ship()
    page = traffic.own_log(own, CallFilter())
    assert page.total == len(page.rows) == 16
    assert all(receipts.own_receipt(own, row.call_id).rungs for row in page.rows)


def test_every_unit_counted_is_charged_once(here: Simulated) -> None:
    ferries, kayaks = (c.secret for c in here.office.consumers)
    for secret in (ferries, kayaks, kayaks):
        here.call(secret)
    merge(here)
    here.call(kayaks)
    here.learn()
    here.call(kayaks)
    here.ship()
    charging.run(here.office.finance, date(2026, 10, 1))
    (only,) = periods.one(here.office.finance, date(2026, 10, 1), PageQuery()).charges.rows
    assert only.consumer == "Ferries"
    with here.office.ctx.transaction() as session:
        usage = select(func.sum(MoneyLine.quantity)).where(MoneyLine.kind == "usage")
        assert session.scalar(usage) == 5
