"""Which terms a call is decided and charged under, whoever is awake; what trials give; what counts hold."""

from __future__ import annotations

import json
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import select

from calm_tariff.core.periods import SECOND, instant_of
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import carrying_over, credentials, overrides, suspending
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose.apis import sunsets
from calm_tariff.services.compose.sheet import tariff_sheet
from calm_tariff.services.observe import allowances
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.usage import Call
from tests.gateway.simulated import Simulated
from tests.office import START, Consumer, Office, terms

OCTOBER = datetime(2026, 9, 30, 23, tzinfo=UTC)  # midnight in Lisbon


@pytest.fixture(params=["memory", "redis"])
def here(office: Office, tmp_path: Path, request: pytest.FixtureRequest, redis_url: str) -> Iterator[Simulated]:
    made = Simulated(office, tmp_path, redis_url if request.param == "redis" else "")
    yield made
    made.close()


def draft(office: Office, wanted: dict[str, Any], plan: str = "Ketch") -> None:
    sheet = tariff_sheet.sheet(office.manager, office.product)
    head = next(p for p in sheet.plans if p.id == office.plans[plan])
    tariff_sheet.save_draft(office.manager, head.id, head.edition, wanted)


def republish(here: Simulated, wanted: dict[str, Any], existing: str = "next period", plan: str = "Ketch") -> None:
    draft(here.office, wanted, plan)
    here.office.publish(existing)
    here.learn()


def calls(here: Simulated) -> list[Call]:
    here.ship()
    with here.office.ctx.transaction() as session:
        return list(session.scalars(select(Call).order_by(Call.at_us, Call.call_id)))


def quota(name: str, **changes: Any) -> dict[str, Any]:
    return {
        "kind": "quota",
        "name": name,
        "counted_per": "subscription",
        "units": 5,
        "every": "month",
        "aligned": "calendar",
        "when_spent": "refuse",
        "meter": "forecast_calls",
        **changes,
    }


def only(*limits: dict[str, Any], **more: Any) -> dict[str, Any]:
    return {**terms(), "limits": list(limits), **more}


def test_a_revision_begins_at_its_instant_with_the_worker_away(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    republish(here, terms(fee="90", burst=3))
    edge = instant_of(OCTOBER)
    for at in (edge - 1, edge, edge + 1):
        here.at(at)
        assert here.call(one.secret).status == 200
    with office.ctx.transaction() as session:
        numbers = {s.id: s.revision.number for s in session.scalars(select(Stay))}
    assert [numbers[c.stay_id] for c in calls(here)] == [1, 2, 2]
    assert {len(c.checks) for c in calls(here)} == {2}
    here.at(datetime(2026, 11, 3, tzinfo=UTC))
    charging.run(office.finance, date(2026, 10, 1))
    charged = periods.charges(office.finance, date(2026, 10, 1), PageQuery()).rows
    assert {c.consumer: c.charge for c in charged}["Ferries"] == Decimal(90)


def test_a_gateway_that_has_not_heard_of_a_move_yet_charges_nobody_wrongly(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    here.call(one.secret)
    here.at(START + timedelta(seconds=10))
    carrying_over.withdraw(office.manager, office.plans["Ketch"], office.plans["Skiff"])
    here.at(START + timedelta(seconds=10, milliseconds=300))
    assert here.call(one.secret).status == 200  # under Ketch, because that is all it knows
    before, after = calls(here)
    with office.ctx.transaction() as session:
        stays = session.scalars(select(Stay).where(Stay.subscription_id == one.subscription).order_by(Stay.start_at))
        assert [before.stay_id, after.stay_id] == [s.id for s in stays]
    assert before.remarks == [c for c in before.remarks if "decided under" not in c]
    assert any("decided under terms that had just ended" in r for r in after.remarks)
    assert after.revision_id == before.revision_id  # what decided stays on the record


def test_what_is_served_after_a_subscription_has_ended_is_recorded_and_not_charged(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    with office.ctx.transaction() as session:
        subscription = session.get_one(Subscription, one.subscription)
        subscription.state, subscription.ended_at = "ended", START + timedelta(seconds=1)
    here.at(START + timedelta(seconds=1, milliseconds=200))
    assert here.call(one.secret).status == 200
    (call,) = calls(here)
    assert (call.stay_id, call.units) == (None, {})
    assert "served when its subscription had ended, and not charged" in call.remarks
    here.learn()
    assert here.call(one.secret).status == 403


def test_a_pause_is_refused_with_a_problem_of_its_own_and_its_counts_go_on(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    republish(here, only(quota("Month", units=3)), "keep")
    new = office.admit("Anglers", "Ketch")
    here.learn()
    assert [here.call(new.secret).status for _ in range(2)] == [200, 200]
    here.at(START + timedelta(minutes=1))
    moved(here, new, "pause")
    before = instant_of(office.clock.now)
    here.at(START + timedelta(hours=1))
    refused = here.call(new.secret)
    said = json.loads(refused.body)
    assert (refused.status, said["title"]) == (403, "Paused")
    assert here.call(new.secret, at_us=before - 1).status == 200  # it belongs to the time before
    assert here.call(one.secret).status == 200  # nobody else is
    moved(here, new, "resume")
    here.restart()
    assert here.call(new.secret).status == 429  # three are used: a pause starts nothing anew
    assert [call.refused_by for call in calls(here) if call.status == 403] == ["pause"]


def test_a_move_that_was_to_come_comes_with_nobody_awake(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    other = office.consumers[1]
    moved(here, one, "change plan", "later", office.plans["Skiff"])
    moved(here, other, "end", "later")
    edge = instant_of(OCTOBER)
    for at, status in ((edge - 1, 200), (edge, 403)):
        here.at(at)
        assert here.call(one.secret).status == 200
        assert here.call(other.secret).status == status
    with office.ctx.transaction() as session:
        plans = {s.id: s.revision.plan.name for s in session.scalars(select(Stay))}
    mine = [plans[c.stay_id] for c in calls(here) if c.subscription_id == one.subscription]
    assert mine == ["Ketch", "Skiff"]


def test_two_keys_serve_until_the_old_one_retires(here: Simulated) -> None:
    one = here.office.consumers[0]
    new = credentials.rotate_key(here.office.acting(one), one.key, 1)
    here.learn()
    for at, old in (
        (START, 200),
        (START + timedelta(hours=1, microseconds=-1), 200),
        (START + timedelta(hours=1), 401),
    ):
        here.at(at)
        assert (here.call(one.secret).status, here.call(new.secret).status) == (old, 200)


def moved(here: Simulated, by: Consumer, kind: Any, when: Any = "now", plan: int | None = None) -> None:
    here.office.change_product(route=Route(otherwise="open"))
    asked = MoveAsked(kind=kind, when=when, plan_id=plan)
    asking.ask_to_move(here.office.acting(by), by.subscription, asked)
    here.learn()


@pytest.mark.parametrize("restarts", [False, True])
def test_terms_announced_for_a_day_within_a_trial_begin_then_and_not_with_its_last_unit(
    here: Simulated, restarts: bool
) -> None:
    office = here.office
    plan = {"calls": 100, "burst": 100}
    republish(here, {**terms(**plan, fee="10", units=60), "trial": TRIAL}, "keep")
    new = office.admit("Anglers", "Ketch")
    draft(office, {**terms(**plan, fee="70", units=50), "trial": TRIAL})
    office.publish("at date", on=date(2026, 9, 18))
    draft(office, {**terms(**plan, fee="90", units=40), "trial": TRIAL})
    office.publish("at date", on=date(2026, 9, 15))  # sooner, and so it is what holds from then on
    draft(office, {**terms(**plan, fee="20", units=30), "trial": TRIAL})
    office.publish("at date", on=date(2026, 9, 21))
    here.learn()
    midnight = [instant_of(datetime(2026, 9, day, 23, tzinfo=UTC)) for day in (14, 17, 20)]
    begun = instant_of(START)
    at = [begun + n for n in range(1, 8)] + [e + d for e in midnight for d in (-1, 0, 1)]
    left = []
    for n, each in enumerate(at):
        here.at(each)
        left.append(here.left(new.secret).get("forecast calls"))
        if restarts and n % 4 == 0:
            here.restart()
    # Five free, then as agreed until the day that was announced; the allowance counts on through all of it.
    assert left == [59, 58, 57, 56, 55, 54, 53, 52, 31, 30, 29, 28, 27, 26, 15, 14]
    here.work()
    with office.ctx.transaction() as session:
        stays = {s.id: (s.trial, s.revision.number) for s in session.scalars(select(Stay))}
    got = [stays[c.stay_id] for c in calls(here) if c.consumer_id == new.member.own_consumer]
    assert got == [(True, 2)] * 5 + [(False, 2)] * 3 + [(False, 4)] * 6 + [(False, 5)] * 2
    here.at(datetime(2026, 10, 3, tzinfo=UTC))
    charging.run(office.finance, date(2026, 9, 1))
    charged = periods.charges(office.finance, date(2026, 9, 1), PageQuery()).rows
    assert {c.consumer: c.charge for c in charged}["Anglers"] > 0


TRIAL = {"days": 14, "units": "5", "meter": "forecast_calls", "then": "charge"}


def test_a_trial_of_five_units_lets_exactly_five_go_free(here: Simulated) -> None:
    office = here.office
    republish(here, {**terms(calls=100, burst=100), "trial": TRIAL}, "keep")
    new = office.admit("Anglers", "Ketch")
    here.learn()
    assert here.left(new.secret)["units of the trial"] == 4
    here.restart()  # a trial's count survives, too
    for n in range(1, 9):
        here.at(START + timedelta(seconds=n))
        assert here.call(new.secret).status == 200
        assert here.call(new.secret, "/stations").status == 200  # not counted by its meter
    with office.ctx.transaction() as session:
        query = select(Stay).where(Stay.subscription_id == new.subscription).order_by(Stay.start_at)
        trial, charged = [s.id for s in session.scalars(query)]
    made = [c for c in calls(here) if c.units]
    assert [c.stay_id for c in made] == [trial] * 5 + [charged] * 4
    here.at(START + timedelta(days=1))
    here.work()
    with office.ctx.transaction() as session:
        ended, begun = session.get_one(Stay, trial), session.get_one(Stay, charged)
        # With the call that used the last of it, and not when somebody was awake to see it.
        assert (ended.spent, ended.end_at) == (True, START + timedelta(seconds=4, microseconds=1))
        assert begun.start_at == ended.end_at


def test_a_trial_that_ends_the_subscription_refuses_what_comes_after_its_units(here: Simulated) -> None:
    office = here.office
    republish(here, {**terms(calls=100, burst=100), "trial": {**TRIAL, "units": "2", "then": "end"}}, "keep")
    new = office.admit("Anglers", "Ketch")
    here.learn()
    assert [here.call(new.secret).status for _ in range(4)] == [200, 200, 403, 403]
    assert b"trial-over" in here.call(new.secret).body
    here.at(START + timedelta(days=14, hours=2))
    assert here.call(new.secret).status == 403


def test_an_override_holds_from_its_instant_to_its_end_with_nobody_awake(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    tomas = office.ctx.acting(Actor("Tomas", frozenset({"operations"})))
    narrow = {**terms()["limits"][0], "calls": 1, "per_seconds": 3600, "burst": 1}
    overrides.make(tomas, one.subscription, OverrideTyped(narrow, "A fault.", date(2026, 9, 10)))
    here.learn()
    assert [here.call(one.secret).status for _ in range(2)] == [200, 429]
    here.at(datetime(2026, 9, 10, 22, 59, 59, 999_999, tzinfo=UTC))
    assert [here.call(one.secret).status for _ in range(2)] == [200, 429]
    here.at(datetime(2026, 9, 10, 23, tzinfo=UTC))
    assert [here.call(one.secret).status for _ in range(2)] == [200, 200]


def test_a_version_answers_until_its_last_day_has_passed(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    sunsets.set_state(office.manager, office.api, "sunset", date(2026, 9, 20))
    here.learn()
    edge = instant_of(datetime(2026, 9, 19, 23, tzinfo=UTC))
    assert [here.call(one.secret, at_us=at).status for at in (edge - 1, edge)] == [200, 410]


def test_an_allowance_without_a_meter_counts_every_call(here: Simulated) -> None:
    one = here.office.consumers[0]
    republish(here, only(quota("Calls", units=3, meter=None)))
    here.at(OCTOBER)
    paths = ["/stations", "/stations/lm-01", "/stations"]
    assert [here.call(one.secret, path).status for path in paths] == [200] * 3
    here.restart()
    assert here.call(one.secret, "/stations").status == 429


def test_an_allowance_begins_when_it_applies_and_a_restart_forgets_and_invents_nothing(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    tomas = office.ctx.acting(Actor("Tomas", frozenset({"operations"})))
    for _ in range(4):
        here.call(one.secret)
    overrides.make(tomas, one.subscription, OverrideTyped(quota("Extra"), "To see.", date(2026, 9, 20)))
    here.learn()
    assert here.left(one.secret) == {"rate": 15, "forecast calls": 95, "extra": 4}
    here.restart()
    assert here.left(one.secret) == {"rate": 14, "forecast calls": 94, "extra": 3}
    gauges = {g.name: int(g.used) for g in allowances.own(office.acting(one))}
    here.ship()
    gauges = {g.name: int(g.used) for g in allowances.own(office.acting(one))}
    assert gauges == {"Forecast calls": 6, "Extra": 2}


def test_over_a_move_of_plan_an_allowance_goes_on_unless_the_product_says_otherwise(here: Simulated) -> None:
    office, one = here.office, here.office.consumers[0]
    for _ in range(4):
        here.call(one.secret)
    here.at(START + timedelta(minutes=1))
    carrying_over.withdraw(office.manager, office.plans["Ketch"], office.plans["Skiff"])
    here.learn()
    assert here.left(one.secret)["forecast calls"] == 25  # of 30, with the four before
    here.restart()
    assert here.left(one.secret)["forecast calls"] == 24
    (gauge,) = [g for g in allowances.own(office.acting(one)) if g.name == "Forecast calls"]
    here.ship()
    (gauge,) = [g for g in allowances.own(office.acting(one)) if g.name == "Forecast calls"]
    assert (gauge.plan, gauge.used, gauge.units) == ("Skiff", 6, 30)


def test_one_consumer_cannot_spend_anothers_allowance_by_a_value_they_share(here: Simulated) -> None:
    one, two = here.office.consumers
    shared = quota("All", units=5, counted_per="header:X-Desk", across_consumers=True)
    republish(here, only(quota("Own", units=2, counted_per="header:X-Desk"), shared))
    here.at(OCTOBER)

    def by(who: Consumer, **headers: str) -> int:
        return here.call(who.secret, **headers).status

    assert [by(one, x_desk="north") for _ in range(3)] == [200, 200, 429]
    assert [by(two, x_desk="north") for _ in range(3)] == [200, 200, 429]
    assert [by(one), by(two), by(one), by(one)] == [200, 200, 200, 429]  # without it, for each key
    here.restart()
    assert [by(one, x_desk="north"), by(two, x_desk="north"), by(one), by(two), by(two)] == [429, 429, 429, 200, 429]
    assert by(one, x_desk="south") == 200
    assert here.left(two.secret, x_desk="south") == {"own": 1, "all": 3}


def test_the_time_from_a_rolling_windows_first_call_is_kept_over_a_restart(here: Simulated) -> None:
    one = here.office.consumers[0]
    window = {
        "kind": "window",
        "name": "Any minute",
        "counted_per": "key",
        "calls": 3,
        "per_seconds": 60,
        "rolling": True,
    }
    republish(here, only(window))
    for n in range(3):
        here.at(instant_of(OCTOBER) + n * 10 * SECOND)
        assert here.call(one.secret).status == 200
        here.restart()
    refused = here.call(one.secret)
    assert (refused.status, refused.headers["retry-after"]) == (429, "40")


def test_a_suspended_consumer_is_refused_from_its_instant_to_its_end_whoever_has_heard_of_it(here: Simulated) -> None:
    one, other = here.office.consumers
    consumer = one.member.consumer_id or 0
    assert here.call(one.secret).status == 200
    here.office.clock.forward(minutes=1)
    suspending.suspend(here.office.manager, consumer, "They crawl every berth.")
    began = here.now_us
    here.learn()
    refused = here.call(one.secret)
    assert (refused.status, json.loads(refused.body)["code"]) == (403, "consumer-suspended")
    assert here.call(other.secret).status == 200
    assert here.call(one.secret, at_us=began - 1).status == 200  # a call of before is as it was
    here.office.clock.forward(minutes=5)
    suspending.resume(here.office.manager, consumer)
    ended = here.now_us
    here.learn()
    assert here.call(one.secret, at_us=ended - 1).status == 403
    assert here.call(one.secret).status == 200
    kept = sorted((call.status, call.refused_by) for call in calls(here) if call.consumer_id == consumer)
    assert kept == [(200, None)] * 3 + [(403, "suspension")] * 2
