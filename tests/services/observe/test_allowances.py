"""Gauges show what is recorded."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal

import pytest

from calm_tariff.core.periods import moment_of
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.observe import allowances, consumers
from calm_tariff.services.serve import history
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office, terms
from tests.services.usages import usage


def test_gauges_show_what_is_recorded(office: Office) -> None:
    usage(office, 60)
    later = office.at(START + timedelta(days=1))
    (gauge,) = [g for g in allowances.own(later.acting(office.consumers[0].member)) if g.units == 100]
    assert (gauge.used, gauge.percent, gauge.consumer) == (Decimal(60), 60, "Ferries")
    assert gauge.projected_units > 100
    assert gauge.spent_at


def test_an_allowance_counts_as_nearly_spent_from_the_very_percent_on(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([office.call(one, START + timedelta(seconds=n), n) for n in range(80)]))
    with office.ctx.transaction() as session:
        assert [allowances.nearly_spent(session, START, percent) for percent in (79, 80, 81)] == [1, 1, 0]
        (fullest,) = allowances.running_out(session, START, 80, 5)
        assert (fullest.used, fullest.percent) == (80, 80)


PER = ("subscription", "consumer", "everyone", "key", "application")


def quotas(every: str, aligned: str) -> dict:
    wanted = terms()
    wanted["limits"] = [
        {
            "kind": "quota",
            "name": f"By {per}",
            "counted_per": per,
            "units": 1000,
            "every": every,
            "aligned": aligned,
            "when_spent": "refuse",
            "meter": "forecast_calls",
        }
        for per in PER
    ]
    return wanted


@pytest.mark.parametrize(
    ("every", "aligned"),
    [("month", "calendar"), ("week", "calendar"), ("month", "subscription"), ("day", "subscription")],
)
def test_each_allowance_counts_whom_its_sentence_names(office: Office, every: str, aligned: str) -> None:
    head = plans.add(office.manager, office.product, "Yawl").plans[-1]
    tariff_sheet.save_draft(office.manager, head.id, head.edition, quotas(every, aligned))
    office.publish("keep")
    office.plans["Yawl"] = head.id
    one, other = office.admit("Terns", "Yawl"), office.admit("Gulls", "Yawl")
    second = applications.register(office.acting(one), "Second", "")
    asked = asking.ask(office.acting(one), second.id, head.id, "A second program of ours.", True)
    deciding.decide(office.reviewer, asked.id, "granted", "")
    key = credentials.make_key(office.acting(one), second.id, "").key.id
    with office.ctx.transaction() as session:
        mine = next(a for a in applications.of_consumer(session, one.member.consumer_id, START) if a.id == second.id)
        subscription = mine.plans[0].subscription_id
    calls = [office.call(one, START + timedelta(minutes=n), n) for n in range(30)]
    calls += [
        office.call(
            one,
            START + timedelta(minutes=n),
            100 + n,
            subscription_id=subscription,
            application_id=second.id,
            key_id=key,
        )
        for n in range(7)
    ]
    calls += [office.call(other, START + timedelta(minutes=n), 200 + n) for n in range(11)]
    history.take_in(office.ctx, office.counted(calls))
    office.clock.forward(hours=1)
    held = [g for g in allowances.everyone(office.manager, PageQuery()).rows if g.plan == "Yawl"]
    assert len(held) == 3 * len(PER)
    used = {(g.consumer, g.application, g.name): g.used for g in held}
    for consumer, app, own, together in (
        ("Terns", "Terns app", 30, 37),
        ("Terns", "Second", 7, 37),
        ("Gulls", "Gulls app", 11, 11),
    ):
        assert [used[consumer, app, f"By {per}"] for per in PER] == [own, together, 48, own, own]
    assert [g.percent for g in held] == sorted((g.percent for g in held), reverse=True)
    for g in held:
        assert g.window_start <= office.clock.now < g.window_end
        assert g.projected_units >= g.used
        if aligned == "subscription":
            assert g.window_start == START
    by_name = allowances.everyone(office.manager, PageQuery("GULL")).rows
    assert {g.consumer for g in by_name} == {"Gulls"} and len(by_name) == len(PER)
    assert allowances.everyone(office.manager, PageQuery("1")).total == 0
    # A consumer sees its own, the desk's figures the same.
    mine = allowances.own(office.acting(other))
    assert [(g.name, g.used) for g in mine] == [(f"By {per}", used["Gulls", "Gulls app", f"By {per}"]) for per in PER]
    page = consumers.one(office.manager, one.member.consumer_id)
    assert {(g.application, g.name, g.used) for g in page.gauges} == {
        (app, name, n) for (who, app, name), n in used.items() if who == "Terns"
    }


def test_an_allowance_spent_before_its_window_ends_says_when(office: Office) -> None:
    one = office.consumers[0]
    begin = START - timedelta(days=35)
    steady = [office.call(one, begin + timedelta(hours=6 * n), n) for n in range(4 * 35)]
    history.take_in(office.ctx, office.counted(steady))
    (gauge,) = [g for g in allowances.own(office.acting(one)) if g.name == "Forecast calls"]
    since = moment_of(1_788_217_200_000_000)  # the 1st in Lisbon
    assert gauge.window_start == since
    used = sum(since <= moment_of(c["at_us"]) < START for c in steady)
    assert gauge.used == used
    # Four calls a day go on: at the month's end as many more as there are quarters of days left.
    left = Decimal((gauge.window_end - START) / timedelta(hours=6))
    assert abs(gauge.projected_units - (used + left)) <= 1
    spent = gauge.spent_at
    assert spent and abs((spent - START) - timedelta(hours=6) * (100 - used)) <= timedelta(hours=6)
    with office.ctx.transaction() as session:
        assert allowances.nearly_spent(session, office.clock.now, 30) == 1
        assert allowances.running_out(session, office.clock.now, 80, 4)[0].spent_at == spent
