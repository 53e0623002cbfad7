"""How a product's APIs have answered: shares and durations by day, of everybody's live calls and nobody's alone."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import NotFound
from calm_tariff.services.admit.portals import portals
from calm_tariff.services.admit.portals.portals import PortalTyped
from calm_tariff.services.compose.apis import sunsets
from calm_tariff.services.observe import answering
from calm_tariff.services.observe.answering import Answered
from calm_tariff.services.serve import history
from tests.office import START, Office

SLUG = "harbour-data"
NOTHING = Answered(None, None, None)


def lived(office: Office) -> Office:
    """A hundred calls of both consumers on one day, five failed; a few on the day before; others that do not tell."""
    calls = [
        office.call(
            office.consumers[n % 2],
            START + timedelta(seconds=n),
            n,
            took_us=900 if n < 50 else 5_000 + 300_000,
            wait_us=300_000 if n >= 50 else 0,  # held by a pace, which is no slowness of the API
            status=503 if n < 5 else 404 if n < 9 else 200,
        )
        for n in range(100)
    ]
    few = [office.call(office.consumers[0], START - timedelta(days=1), 100 + n) for n in range(19)]
    silent = [
        office.call(office.consumers[0], START, 200, environment="sandbox", status=500),
        office.call(office.consumers[0], START, 201, verdict="refused", refused_by="Rate", status=500, units={}),
        office.call(office.consumers[0], START - timedelta(days=30), 202, status=500),
    ]
    history.take_in(office.ctx, calls + few + silent)
    return office


def test_every_day_is_told_by_share_and_by_how_soon(office: Office) -> None:
    (tides,) = answering.of_product(lived(office).ctx, SLUG)
    assert tides.version == "Tides v1"
    assert [d.day for d in tides.days] == [START.date() - timedelta(days=n) for n in range(29, -1, -1)]
    today, before = tides.days[-1].answered, tides.days[-2].answered
    assert today == Answered(Decimal("95.00"), Decimal("1.0"), Decimal("5.1"))
    assert before == NOTHING  # nineteen calls say too much of each
    assert all(d.answered == NOTHING for d in tides.days[:-2])
    assert tides.answered.available == Decimal("95.79")  # 114 of 119, and no more than they were
    assert date(2026, 9, 10) == tides.days[-1].day


def test_a_version_that_answers_no_more_and_a_product_that_is_hidden_tell_nothing(office: Office) -> None:
    lived(office)
    made = portals.create(office.manager, "quay", "Quay")
    portals.save(office.manager, made.id, made.edition, replace(PortalTyped(brand=made.brand), everything=False))
    here = office.ctx.acting(replace(office.consumers[0].member, portal_id=made.id))
    with pytest.raises(NotFound):
        answering.of_product(here, SLUG)
    sunsets.set_state(office.manager, office.api, "sunset", START.date() + timedelta(days=30))
    assert len(answering.of_product(office.ctx, SLUG)) == 1
    sunsets.set_state(office.manager, office.api, "gone", None)
    assert answering.of_product(office.ctx, SLUG) == []
