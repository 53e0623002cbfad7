"""What is laid together of the limits above plans, of a plan, of operations and of a subscription."""

from __future__ import annotations

from dataclasses import replace

from calm_tariff.core.layers import EVERYWHERE, House, counted_on, effective, for_all, placed
from calm_tariff.core.limits import Quota, Rate, Window
from calm_tariff.core.meters import Meter
from calm_tariff.core.terms import PlanTerms

RATE = Rate(name="Rate", counted_per="key", calls=5, per_seconds=1, burst=10)
SLOW = replace(RATE, name="Slow", calls=1, applies_to=("2",))
ALLOWANCE = Quota(
    name="Allowance",
    counted_per="subscription",
    units=10,
    every="month",
    aligned="calendar",
    when_spent="refuse",
    meter="forecasts",
)
WINDOW = Window(name="Window", counted_per="consumer", calls=9, per_seconds=60, rolling=True)
FORECASTS = Meter(key="forecasts", measure="calls", operations=frozenset({"2", "1"}), environments=("live",))
TERMS = PlanTerms(limits=(RATE, ALLOWANCE), overrides=(SLOW,))


def test_a_meter_counts_on_its_operations_in_its_environments_alone() -> None:
    assert counted_on([FORECASTS], "live") == {"forecasts": ("1", "2")}
    assert counted_on([FORECASTS], "sandbox") == {}


def test_limits_above_plans_are_named_by_their_place_and_hold_there_alone() -> None:
    (provider,), (api,) = for_all([WINDOW]), placed([WINDOW], ["3", "4"], "Tides v1")
    assert (provider.name, provider.applies_to) == (f"{EVERYWHERE}: Window", None)
    assert (api.name, api.applies_to) == ("Tides v1: Window", ("3", "4"))
    assert placed([WINDOW], [])[0].applies_to == ()  # of a version without operations it holds nowhere
    assert for_all([WINDOW], "")[0].name == "Window"


def test_all_layers_stand_in_the_order_they_are_tested_and_quotas_hold_where_their_meter_counts() -> None:
    house = House(
        provider=for_all([WINDOW]), api=placed([WINDOW], ["1"], "Tides v1"), counted_on=counted_on([FORECASTS], "live")
    )
    own = replace(RATE, calls=50)
    laid = house.with_plan(TERMS, subscription=(own,))
    assert [(each.layer, each.limit.name) for each in laid] == [
        ("provider", "every API: Window"),
        ("api", "Tides v1: Window"),
        ("plan", "Allowance"),
        ("operation", "Slow"),
        ("subscription", "Rate"),
    ]
    assert laid[-1].limit == own  # in place of the plan's limit of that name
    meets = {operation: [each.limit.name for each in laid if each.applies_to(operation)] for operation in ("1", "2")}
    assert meets["1"] == ["every API: Window", "Tides v1: Window", "Allowance", "Rate"]
    assert meets["2"] == ["every API: Window", "Allowance", "Slow", "Rate"]
    assert house.layers == {"every API: Window": "provider", "Tides v1: Window": "api"}


def test_a_quota_whose_meter_counts_nowhere_here_holds_nowhere() -> None:
    (rate, quota, slow) = House().with_plan(TERMS)
    assert (rate.limit.applies_to, quota.limit.applies_to, slow.limit.applies_to) == (None, (), ("2",))


def test_layers_are_tested_in_order_and_a_subscription_override_replaces_its_namesake() -> None:
    def rate(name: str, calls: int) -> Rate:
        return Rate(name=name, counted_per="key", calls=calls, per_seconds=1, burst=calls)

    found = effective(
        provider=[rate("all", 9)],
        api=[rate("api", 8)],
        plan=[rate("Rate", 5), rate("other", 4)],
        operation=[rate("op", 3)],
        subscription=[rate("Rate", 50)],
    )
    assert [(f.layer, f.limit.name, f.limit.calls) for f in found] == [
        ("provider", "all", 9),
        ("api", "api", 8),
        ("plan", "other", 4),
        ("operation", "op", 3),
        ("subscription", "Rate", 50),
    ]
