"""What grants have in common is compiled once, and what is one subscription's own is shared with nobody."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest

from calm_tariff.core.limits import TRIAL_NAME
from calm_tariff.core.meters import Environment
from calm_tariff.core.periods import instant_of
from calm_tariff.gateway.compiled.compiling import Access, Compiler, CountNames
from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.compose import house_limits
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import START, Consumer, Office, terms

AT = instant_of(START + timedelta(hours=1))
RATE = terms()["limits"][0]
TRIAL = {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}


class Compiled:
    """The compiler of an environment, and what calls of the office's consumers meet by it."""

    def __init__(self, office: Office, environment: Environment = "live") -> None:
        self.office, self.feed = office, read_feed(office.ctx)
        self.compiler = Compiler(self.feed, environment, CountNames(self.feed))

    def access(self, consumer: Consumer, operation: str = "GET /stations/{id}", at_us: int = AT) -> Access:
        grants = [g for g in self.feed.grants if g.subscription_id == consumer.subscription]
        grant = next(g for g in grants if g.start_us <= at_us and (g.end_us is None or at_us < g.end_us))
        (caller,) = [c for c in self.feed.callers if c.application_id == consumer.application]
        return self.compiler.access(
            grant,
            at_us=at_us,
            caller=caller,
            operation_id=self.office.operations[operation],
            scopes=frozenset(),
            credential="key",
        )

    def scopes(self, consumer: Consumer) -> set[str]:
        return {compiled.scope for compiled in self.access(consumer).stack.compiled}


def limits_of(access: Access) -> list[str]:
    return [limit.name for limit in access.stack.limits]


def test_two_on_the_same_terms_share_what_is_compiled_and_no_count(office: Office) -> None:
    compiled = Compiled(office)
    one, two = (compiled.access(consumer) for consumer in office.consumers)
    assert one.stack is two.stack and one.policies is two.policies and one.costs is two.costs
    assert one.caller.consumer_id != two.caller.consumer_id
    assert limits_of(one) == ["Rate", "Forecast calls"]
    assert {limit.counted_per for limit in one.stack.limits} == {"key", "subscription"}


def test_allowances_counted_from_subscribing_are_compiled_for_each_beginning(office: Office) -> None:
    own = terms()
    own["limits"][1]["aligned"] = "subscription"
    office.draft("Ketch", own)
    office.publish("keep")
    first = office.admit("Anglers", "Ketch")
    office.clock.forward(hours=1)
    second, third = office.admit("Rowers", "Ketch"), office.admit("Divers", "Ketch")
    compiled = Compiled(office)
    at = instant_of(office.clock.now)
    stacks = [compiled.access(consumer, at_us=at).stack for consumer in (first, second, third)]
    assert stacks[0] is not stacks[1] and stacks[1] is stacks[2]
    assert stacks[1].origin - stacks[0].origin == 3600 * 1_000_000


def test_the_sandbox_counts_apart(office: Office) -> None:
    one = office.consumers[0]
    assert not Compiled(office).scopes(one) & Compiled(office, "sandbox").scopes(one)
    assert Compiled(office, "sandbox").access(one).meters == ()  # the meter counts live calls alone


def test_an_override_holds_for_its_subscription_in_its_time_and_is_kept_whole_in_receipts(office: Office) -> None:
    one, two = office.consumers
    until = (START + timedelta(days=3)).date()
    overrides.make(office.manager, one.subscription, OverrideTyped({**RATE, "calls": 99}, "a race", until))
    compiled = Compiled(office)
    raised, plain = compiled.access(one), compiled.access(two)
    rates = [next(x.calls for x in a.stack.limits if x.name == "Rate") for a in (raised, plain)]
    assert rates == [99, 10]
    assert raised.above["Rate"] == "subscription" and "Rate" not in plain.above
    after = compiled.access(one, at_us=instant_of(START + timedelta(days=4)))
    assert next(x.calls for x in after.stack.limits if x.name == "Rate") == 10 and "Rate" not in after.above


def test_a_trials_units_are_tested_first_and_counted_for_the_trial_alone(office: Office) -> None:
    office.draft("Ketch", {**terms(), "trial": TRIAL})
    office.publish("keep")
    new = office.admit("Anglers", "Ketch")
    compiled = Compiled(office)
    trial, charged = compiled.access(new), compiled.access(new, at_us=AT + 15 * 86_400 * 1_000_000)
    assert limits_of(trial) == [TRIAL_NAME, "Rate", "Forecast calls"] and trial.above[TRIAL_NAME] == "trial"
    assert limits_of(charged) == ["Rate", "Forecast calls"] and TRIAL_NAME not in charged.above
    (stay,) = [g.stay_id for g in compiled.feed.grants if g.subscription_id == new.subscription and g.trial]
    assert trial.stack.compiled[0].scope == f"trial/{stay}"


@pytest.mark.parametrize(
    ("counted_per", "read"), [("header:X-Station", True), ("address", True), ("claim:tenant", True), ("key", False)]
)
def test_what_calls_are_counted_by_is_read_of_them(office: Office, counted_per: str, read: bool) -> None:
    limit: dict[str, Any] = {**RATE, "name": "House", "counted_per": counted_per}
    house_limits.save(office.manager, None, 0, [limit])
    access = Compiled(office).access(office.consumers[0])
    assert access.wants == ((counted_per,) if read else ())
    assert access.above[access.stack.limits[0].name] == "provider"


def test_an_operation_no_meter_counts_takes_from_no_allowance(office: Office) -> None:
    compiled = Compiled(office)
    access = compiled.access(office.consumers[0], "GET /stations")
    assert access.meters == ()
    assert [c.limit.name for c in access.stack.applying(access.operation, access.costs)] == ["Rate"]
