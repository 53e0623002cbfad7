"""Whoever is on a plan is carried over to its new terms, or to another plan."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from threading import Barrier

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Invalid, NotAllowed, Stale
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import (
    carrying_over,
)
from calm_tariff.services.base import stamps
from calm_tariff.services.compose import products
from calm_tariff.services.compose.products import ProductTyped
from calm_tariff.services.compose.sheet import plans, publishing, tariff_sheet
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.admit.subscriptions import Stay
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import START, Office, terms
from tests.services.usages import ketch


def test_what_the_publisher_has_not_seen_is_not_published(office: Office) -> None:
    plan, other = office.plans["Ketch"], office.plans["Skiff"]

    def refused(editions: dict[int, int]) -> None:
        with pytest.raises(Stale) as error:
            carrying_over.publish(office.manager, office.product, editions, "keep")
        assert error.value.current.plans
        assert all(p.live_revision == 1 for p in tariff_sheet.sheet(office.manager, office.product).plans)

    seen = ketch(office.draft("Ketch", terms(burst=40))).edition
    refused({})
    refused({plan: seen + 1})
    office.draft("Ketch", terms(burst=41))  # somebody saves meanwhile
    refused({plan: seen})
    seen += 1
    begun = next(p.edition for p in office.draft("Skiff", terms(burst=9)).plans if p.id == other)
    refused({plan: seen})  # somebody begins another
    refused({plan: seen, other: begun, 999: 1})
    tariff_sheet.discard_draft(office.manager, other)
    refused({plan: seen, other: begun})  # and ends it
    published = carrying_over.publish(office.manager, office.product, {plan: seen}, "keep")
    assert ketch(published).live_revision == 2
    assert ketch(published).edition > seen  # what is published stands under an edition of its own


def test_saving_while_publishing_waits_its_turn(office: Office) -> None:
    office.draft("Skiff", terms(burst=9))
    gate = Barrier(2)

    def save(n: int) -> str:
        gate.wait()
        for k in range(20):
            sheet = tariff_sheet.sheet(office.manager, office.product)
            try:
                tariff_sheet.save_draft(office.manager, ketch(sheet).id, ketch(sheet).edition, terms(burst=30 + k))
            except Stale:
                continue
        return "saved"

    def publish(n: int) -> str:
        gate.wait()
        while True:  # until it has seen what is drafted; at the latest when nobody saves any more
            try:
                office.publish("keep")
            except Stale:
                continue
            return "published"

    with ThreadPoolExecutor(2) as pool:
        assert [job.result() for job in (pool.submit(save, 0), pool.submit(publish, 0))] == ["saved", "published"]
    numbers = [n for p in tariff_sheet.sheet(office.manager, office.product).plans for n in [p.live_revision]]
    assert max(numbers) > 1


def test_a_revision_for_the_next_period_cuts_the_stay_there_and_tells_the_members(office: Office) -> None:
    number = stamps.number(office.ctx)
    office.draft("Ketch", terms(burst=40))
    office.publish("next period")
    assert stamps.number(office.ctx) > number
    october = datetime(2026, 9, 30, 23, tzinfo=UTC)  # midnight in Lisbon
    with office.ctx.transaction() as session:
        stays = session.scalars(
            select(Stay).where(Stay.subscription_id == office.consumers[0].subscription).order_by(Stay.id)
        ).all()
        assert [(s.revision.number, s.start_at, s.end_at) for s in stays] == [(1, START, october), (2, october, None)]
        letters = [m for m in session.scalars(select(Mail)) if "changes on 1 October" in m.subject]
    assert len(letters) == 2
    assert "up to 20 at once → up to 40 at once" in letters[0].body


TRIAL = {**terms(), "trial": {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}}


def test_a_revision_for_a_day_moves_subscribers_there_and_leaves_trials_alone(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    office.publish("keep")
    tried = office.admit("Divers", "Ketch")
    office.draft("Ketch", terms(fee="50"))
    with pytest.raises(Invalid, match="a day ahead"):
        office.publish("at date", on=date(2026, 9, 10))
    office.publish("at date", on=date(2026, 9, 16))
    with office.ctx.transaction() as session:
        query = select(Stay).where(Stay.subscription_id == tried.subscription).order_by(Stay.start_at, Stay.id)
        # Should its units end the trial before the day, it goes on as agreed until then: empty as yet.
        assert [(s.trial, s.revision.number, s.start_at == s.end_at) for s in session.scalars(query)] == [
            (True, 2, False),
            (False, 2, True),
            (False, 3, False),
        ]
        query = select(Stay).where(Stay.subscription_id == office.consumers[0].subscription).order_by(Stay.start_at)
        moved = session.scalars(query).all()
        assert [s.revision.number for s in moved] == [1, 3]
        assert moved[1].start_at == datetime(2026, 9, 15, 23, tzinfo=UTC)
    revision = publishing.revision(office.manager, moved[1].revision_id)
    assert ("Fee: €40 a month → €50 a month" in revision.changes, len(revision.others)) == (True, 3)


OCTOBER = datetime(2026, 10, 2, 9, tzinfo=UTC)


def test_who_is_moved_from_a_plan_goes_to_one_that_is_sold(office: Office) -> None:
    skiff, ketch = office.plans["Skiff"], office.plans["Ketch"]
    other = products.create(
        office.manager,
        ProductTyped("Sea", "Waves.", "Name us.", Route(otherwise="open"), [office.operations["GET /stations"]]),
    )
    head = plans.add(office.manager, other.id, "Gull").plans[-1]
    foreign = head.id
    tariff_sheet.save_draft(
        office.manager, foreign, head.edition, {"pricing": {"prices": [{"kind": "fee", "amount": "5"}]}}
    )
    office.publish("keep", product=other.id)
    drafted = plans.add(office.manager, office.product, "Dinghy").plans[-1].id
    for target in (foreign, drafted, ketch):
        with pytest.raises(Invalid, match="another plan of the product that is sold"):
            carrying_over.withdraw(office.manager, ketch, target)
    with pytest.raises(NotAllowed):
        carrying_over.withdraw(office.reviewer, ketch, skiff)
    with pytest.raises(NotAllowed):
        plans.show_to(office.reviewer, ketch, [])
    # A move for the next period stands already: the plan that ends takes it along.
    office.draft("Ketch", terms(fee="70"))
    office.publish("next period")
    one = office.consumers[0]
    office.clock.forward(days=2)
    plans.close(office.manager, skiff)
    carrying_over.withdraw(office.manager, ketch, skiff)
    with office.ctx.transaction() as session:
        stays = session.scalars(select(Stay).where(Stay.subscription_id == one.subscription).order_by(Stay.start_at))
        assert [(s.revision.plan.name, s.start_at, s.end_at) for s in stays] == [
            ("Ketch", START, START + timedelta(days=2)),
            ("Skiff", START + timedelta(days=2), None),
        ]
    office.clock.now = OCTOBER
    charging.run(office.finance, date(2026, 9, 1))
    (charge,) = {c.charge for c in periods.charges(office.finance, date(2026, 9, 1), PageQuery()).rows}
    assert charge == Decimal("2.67")  # 2 of 30 days of 40, then a plan without a fee
