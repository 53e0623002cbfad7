"""What a consumer is charged for in a period: its stays and what was counted in each, and nobody else's."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

from calm_tariff.core.periods import Period
from calm_tariff.core.rating import rate
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.admit import carrying_over
from calm_tariff.services.serve import history
from calm_tariff.services.settle import rating_cases
from calm_tariff.services.settle.rating_cases import ConsumerCase
from tests.office import START, Office, terms
from tests.services.queries import asked

SEPTEMBER = Period(date(2026, 9, 1), date(2026, 10, 1))
OCTOBER = Period(date(2026, 10, 1), date(2026, 11, 1))


def cases(office: Office, period: Period = SEPTEMBER, **narrow: object) -> dict[str, ConsumerCase]:
    with office.ctx.transaction() as session:
        return {c.consumer: c for c in rating_cases.cases(session, period, **narrow)}  # type: ignore[arg-type]


def called(office: Office, consumer: int, at: datetime, times: int, **changes: object) -> None:
    tail = int(at.timestamp()) % 10**6
    calls = [
        office.call(office.consumers[consumer], at + timedelta(seconds=n), tail + n, **changes) for n in range(times)
    ]
    history.take_in(office.ctx, calls)


def units(case: ConsumerCase) -> list[Decimal]:
    return [s.usage.get("forecast_calls", Decimal(0)) for s in case.case.segments]


def test_each_has_its_own_usage_of_the_period_alone(office: Office) -> None:
    called(office, 0, START + timedelta(hours=1), 7)
    called(office, 1, START + timedelta(hours=2), 2)
    called(office, 0, datetime(2026, 10, 2, tzinfo=UTC), 5)
    september, october = cases(office), cases(office, OCTOBER)
    assert {name: units(case) for name, case in september.items()} == {"Ferries": [7], "Kayaks": [2]}
    assert {name: units(case) for name, case in october.items()} == {"Ferries": [5], "Kayaks": [0]}


def test_a_month_begins_at_the_providers_midnight(office: Office) -> None:
    """Lisbon is an hour ahead of UTC in September."""
    called(office, 0, datetime(2026, 9, 30, 22, 59, 50, tzinfo=UTC), 5)
    called(office, 0, datetime(2026, 9, 30, 23, 0, 0, tzinfo=UTC), 3)
    assert units(cases(office)["Ferries"]) == [5]
    assert units(cases(office, OCTOBER)["Ferries"]) == [3]


def test_the_cases_of_many_take_no_more_questions_than_those_of_one(office: Office) -> None:
    for n in range(4):
        office.admit(f"More{n}", list(office.plans)[n % 2])
    with asked(office.ctx) as one:
        assert len(cases(office, consumers=[office.consumers[0].member.own_consumer])) == 1
    everybody = [case.consumer_id for case in cases(office).values()]
    with asked(office.ctx) as many:
        assert len(cases(office, consumers=everybody)) == 6
    assert len(many) == len(one)


def test_a_period_before_anybody_subscribed_has_no_case(office: Office) -> None:
    assert cases(office, Period(date(2026, 8, 1), date(2026, 9, 1))) == {}
    assert cases(office, consumers=[]) == {}


def test_a_stay_is_cut_where_the_consumer_moves_and_its_usage_goes_with_it(office: Office) -> None:
    called(office, 0, START + timedelta(hours=1), 4)
    moving = START + timedelta(days=5)
    office.clock.now = moving
    carrying_over.withdraw(office.manager, office.plans["Ketch"], office.plans["Skiff"])
    case = cases(office)["Ferries"]
    assert [s.plan_id for s in case.segments] == [office.plans["Ketch"], office.plans["Skiff"]]
    assert case.segments[0].end == case.segments[1].start
    assert case.segments[1].end == datetime(2026, 9, 30, 23, tzinfo=UTC)
    assert units(case) == [4, 0]
    assert [s.first for s in case.case.segments] == [True, False]  # a setup fee is owed once


def test_the_same_usage_is_rated_under_other_prices(office: Office) -> None:
    called(office, 0, START + timedelta(hours=1), 25)
    case = cases(office)["Ferries"]
    dearer = read(PlanTerms, terms(fee="90")).pricing
    other = replace(case, case=case.with_pricing({office.plans["Ketch"]: dearer}))
    assert units(other) == units(case) == [25]
    days = Decimal(21)  # of September from the tenth on, when it began
    assert rate(other.case).subtotal - rate(case.case).subtotal == Decimal(50) * days / 30
    untouched = case.with_pricing({office.plans["Skiff"]: dearer})
    assert rate(untouched).subtotal == rate(case.case).subtotal


def test_plans_of_a_period_are_those_a_consumer_had_a_stay_on(office: Office) -> None:
    office.clock.now = START + timedelta(days=5)
    carrying_over.withdraw(office.manager, office.plans["Ketch"], office.plans["Skiff"])
    ferries = office.consumers[0].member.own_consumer
    with office.ctx.transaction() as session:
        assert rating_cases.plans_in(session, SEPTEMBER)[ferries] == [office.plans["Ketch"], office.plans["Skiff"]]
        assert rating_cases.plans_in(session, OCTOBER)[ferries] == [office.plans["Skiff"]]
        assert rating_cases.plans_in(session, Period(date(2026, 8, 1), date(2026, 9, 1))) == {}
