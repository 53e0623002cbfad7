"""A request with everything a reviewer weighs."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.services.admit import applications
from calm_tariff.services.admit.desk import asking, queue
from calm_tariff.services.base.context import NOBODY
from calm_tariff.services.observe import request_in_view
from calm_tariff.services.serve import history
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.compose.meters import Meter
from tests.office import START, Office


def test_a_reviewer_sees_what_the_plan_gives_and_what_is_known_of_who_asks(office: Office) -> None:
    one = office.consumers[0]
    calls = [office.call(one, START - timedelta(days=27, hours=n), n) for n in range(5)]
    calls += [office.call(one, START - timedelta(days=28, hours=n), 50 + n) for n in range(1, 8)]
    calls += [office.call(office.consumers[1], START - timedelta(hours=n), 90 + n) for n in range(3)]
    refused = [office.call(one, START, 70 + n, verdict="refused", refused_by="Rate", units={}) for n in range(2)]
    history.take_in(office.ctx, calls + refused)
    office.clock.forward(minutes=1)
    second = applications.register(office.acting(one), "Second", "")
    asked = asking.ask(office.acting(one), second.id, office.plans["Skiff"], "Another timetable.", True)
    shown = request_in_view.one(office.reviewer, asked.id)
    assert (shown.request.consumer, shown.request.plan, shown.request.purpose) == (
        "Ferries",
        "Skiff",
        "Another timetable.",
    )
    known = shown.background
    assert known.calls_28_days == {"served": 5, "refused": 2}
    assert [r.id for r in known.earlier] == [one.request] and known.consumer_since == START
    assert {a.name for a in known.applications} == {"Ferries app", "Second"}
    given = {row.label: "".join(p.text for s in row.cells[0].sentences for p in s) for row in known.plan_rows}
    assert given["Rate"] == "2 calls a second, up to 5 at once, for each key"
    for nobody in (office.acting(one), office.ctx.acting(NOBODY)):
        with pytest.raises(NotSignedIn):
            request_in_view.one(nobody, asked.id)
    with pytest.raises(NotFound):
        request_in_view.one(office.reviewer, 10**9)


def test_what_is_expected_is_kept_as_it_was_said_and_set_against_the_plan(office: Office) -> None:
    own = office.acting(office.consumers[0])
    application = applications.register(own, "Second").id
    expected = {"forecast_calls": Decimal(150)}
    asked = asking.ask(own, application, office.plans["Ketch"], "Many forecasts.", True, expected=expected)
    assert asked.expected == ["150 forecast calls a month"]
    comes_to = request_in_view.one(office.reviewer, asked.id).background.comes_to
    assert comes_to is not None and comes_to.charge is None  # the plan refuses beyond 100 a month
    assert comes_to.shortfalls == ["100 of your 150 forecast calls a month, then refused"]
    asking.take_back(own, asked.id)
    fewer = {"forecast_calls": Decimal(30)}
    asked = asking.ask(own, application, office.plans["Ketch"], "Fewer forecasts.", True, expected=fewer)
    comes_to = request_in_view.one(office.reviewer, asked.id).background.comes_to
    assert comes_to is not None and (comes_to.charge, comes_to.currency) == (Decimal("40.08"), "EUR")
    with office.ctx.transaction() as session:
        session.get_one(Meter, office.meter).name = "Predictions"  # a meter's later name changes nothing that was said
    assert queue.desk(office.reviewer, PageQuery()).rows[0].expected == ["30 forecast calls a month"]
    silent = office.consumers[1].request
    assert request_in_view.one(office.reviewer, silent).background.comes_to is None
