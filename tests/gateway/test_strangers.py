"""Calls without a credential: of products sold open, and of what anyone may try in the sandbox."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import timedelta
from pathlib import Path

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.strangers import TRIES_NAME
from calm_tariff.gateway.recording import sampling
from calm_tariff.gateway.recording.sampling import Sampling
from calm_tariff.services.admit import carrying_over
from calm_tariff.services.compose import products, strangers
from calm_tariff.services.compose.apis import forwarding, versions, views
from calm_tariff.services.compose.sheet import plans
from calm_tariff.services.observe import traffic
from calm_tariff.services.serve import receipts
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.usage import HourlyUsage
from tests.gateway.simulated import Simulated
from tests.gateway.test_stays import calls, only, quota, republish
from tests.office import Office

HERE, THERE = {"from_": "198.51.100.1"}, {"from_": "198.51.100.2"}
SANDBOX = {"Calm_Environment": "sandbox"}
LATEST = "/stations/lm-01"


@pytest.fixture(params=["memory", "redis"])
def here(office: Office, tmp_path: Path, request: pytest.FixtureRequest, redis_url: str) -> Iterator[Simulated]:
    made = Simulated(office, tmp_path, redis_url if request.param == "redis" else "")
    yield made
    made.close()


def sell_open(here: Simulated, plan: str = "Ketch") -> None:
    here.office.change_product(strangers_plan=here.office.plans[plan])
    here.learn()


def let_try(here: Simulated, tries: int = 3) -> None:
    """Give the API a sandbox that anyone may try, so often an hour."""
    office = here.office
    with office.ctx.transaction() as session:
        operations = list(session.scalars(select(Operation.id).where(Operation.api_version_id == office.api)))
        version = views.get(session, office.api)
        version.sandbox_url = "http://127.0.0.1:9/sandbox"
        typed, edition = views.forwarding_of(version), version.edition
    strangers.let_anyone_try(office.manager, office.api, operations, True)
    forwarding.change(office.manager, office.api, edition, replace(typed, tries_an_hour=tries))
    here.learn()


def test_a_product_sold_open_is_called_without_a_credential_each_address_by_itself(here: Simulated) -> None:
    republish(here, only(quota("Forecast calls", units=3)))
    assert here.call("", LATEST, **HERE).status == 401
    sell_open(here)

    assert [here.call("", LATEST, **HERE).status for _ in range(4)] == [200, 200, 200, 429]
    assert [here.call("", LATEST, **THERE).status for _ in range(4)] == [200, 200, 200, 429]
    subscriber = here.office.consumers[0]
    assert here.call(subscriber.secret, LATEST, **HERE).status == 200, "a subscriber at that address counts for itself"


def test_whoever_sends_a_bad_credential_is_no_stranger(here: Simulated) -> None:
    sell_open(here)

    assert here.call("not-a-key", LATEST).status == 401
    assert here.call("", LATEST, Authorization="Bearer nonsense").status == 401


def test_an_ipv6_address_counts_with_all_of_its_network(here: Simulated) -> None:
    republish(here, only(quota("Forecast calls", units=2)))
    sell_open(here)
    asked = ("2001:db8::1", "2001:db8::2", "2001:db8::3", "2001:db8:0:1::1")

    assert [here.call("", LATEST, from_=address).status for address in asked] == [200, 200, 429, 200]


def test_strangers_are_told_apart_from_subscribers_in_log_receipt_and_sums_and_charged_nothing(here: Simulated) -> None:
    office = here.office
    republish(here, only(quota("Forecast calls", units=2)))
    sell_open(here)
    for _ in range(3):
        here.call("", LATEST, **HERE)

    first, _, refused = sorted(calls(here), key=lambda call: call.verdict == "refused")
    nobodys = (first.consumer_id, first.application_id, first.subscription_id, first.stay_id, first.key_id)
    assert nobodys == (None,) * 5
    assert (first.credential, first.environment, first.verdict) == ("none", "live", "served")
    assert first.product_id == office.product
    assert "198.51.100.1" not in str(first.counted) + str(first.checks) + str(first.carried)
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(HourlyUsage)) == 0, "which charges are made of"
    (line, *_) = traffic.log(office.manager, CallFilter()).rows
    assert (line.consumer, line.consumer_id) == ("a stranger", None)
    titles = [rung.title for rung in receipts.receipt(office.manager, first.call_id).rungs]
    assert titles[0] == "No credential"
    assert titles[1].startswith("Sold open under ")
    assert receipts.receipt(office.manager, refused.call_id).summary.startswith("Forecast calls was reached")


def test_what_strangers_used_survives_a_restart(here: Simulated) -> None:
    rate = {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": 1, "per_seconds": 3600, "burst": 2}
    republish(here, only(rate, quota("Forecast calls", units=5)))
    sell_open(here)
    assert [here.call("", LATEST, **HERE).status for _ in range(2)] == [200, 200]

    here.restart()

    assert here.call("", LATEST, **HERE).status == 429
    assert here.left("", LATEST, **THERE) == {"rate": 1, "forecast calls": 4}
    here.at(here.office.clock.now + timedelta(hours=1))
    assert here.left("", LATEST, **HERE) == {"rate": 0, "forecast calls": 2}


def test_a_flood_of_refused_strangers_is_counted_and_not_recorded_call_by_call(
    here: Simulated, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(sampling, "PER_SECOND", 0)
    here.gateway.sampling = Sampling(room=2)
    republish(here, only(quota("Forecast calls", units=1)))
    sell_open(here)

    assert [here.call("", LATEST, **HERE).status for _ in range(20)] == [200, *[429] * 19]

    assert [call.verdict for call in calls(here)].count("refused") == 2
    assert here.gateway.sampling.left_out == 17
    assert [call.verdict for call in calls(here)].count("served") == 1, "none that was let through is left out"


def test_a_new_revision_holds_for_strangers_and_their_counts_go_on(here: Simulated) -> None:
    republish(here, only(quota("Forecast calls", units=2)))
    sell_open(here)
    assert [here.call("", LATEST, **HERE).status for _ in range(3)] == [200, 200, 429]

    republish(here, only(quota("Forecast calls", units=3)))

    assert [here.call("", LATEST, **HERE).status for _ in range(2)] == [200, 429]


def test_a_product_is_sold_open_no_longer_once_it_is_taken_back(here: Simulated) -> None:
    sell_open(here)
    assert here.call("", LATEST).status == 200
    here.office.change_product(strangers_plan=None)
    here.learn()
    assert here.call("", LATEST).status == 401


def test_a_closed_plan_goes_on_for_strangers_and_a_withdrawn_one_does_not(here: Simulated) -> None:
    office = here.office
    sell_open(here, "Skiff")
    plans.close(office.manager, office.plans["Skiff"])
    office.change_product(description="Saved again, with the plan as it is.")
    here.learn()
    assert here.call("", LATEST).status == 200

    carrying_over.withdraw(office.manager, office.plans["Skiff"])
    office.change_product(description="And once more.")
    here.learn()

    assert here.call("", LATEST).status == 401


def test_the_sandbox_is_tried_by_whoever_asks_for_it_so_often_an_hour(here: Simulated) -> None:
    let_try(here)

    assert here.call("", LATEST, **HERE).status == 401, "a forgotten key is not answered by the sandbox"
    assert [here.call("", LATEST, **SANDBOX, **HERE).status for _ in range(4)] == [200, 200, 200, 429]
    assert here.call("", LATEST, **SANDBOX, **THERE).status == 200
    here.restart()
    assert here.call("", LATEST, **SANDBOX, **HERE).status == 429
    here.at(here.office.clock.now + timedelta(hours=1))
    assert here.call("", LATEST, **SANDBOX, **HERE).status == 200

    tried = next(call for call in calls(here) if call.verdict == "served")
    assert (tried.environment, tried.product_id, tried.revision_id, tried.consumer_id) == ("sandbox", None, None, None)
    refused = next(call for call in calls(here) if call.refused_by == TRIES_NAME)
    receipt = receipts.receipt(here.office.manager, refused.call_id)
    assert [rung.state for rung in receipt.rungs] == ["passed", "passed", "refused", "end"]
    assert receipt.rungs[1].title.startswith("Anyone may try GET ")


def test_only_operations_whose_owner_allows_it_are_tried(here: Simulated) -> None:
    let_try(here)
    office = here.office
    with office.ctx.transaction() as session:
        ids = list(session.scalars(select(Operation.id).where(Operation.path == "/stations/{id}")))
    strangers.let_anyone_try(office.manager, office.api, ids, False)
    here.learn()

    assert here.call("", LATEST, **SANDBOX).status == 401


def test_what_is_for_some_or_is_not_on_sale_is_not_sold_open(office: Office) -> None:
    with pytest.raises(Invalid, match="a plan of this product that is on sale"):
        office.change_product(strangers_plan=10**6)
    with office.ctx.transaction() as session:
        typed = products.typed_of(products.get(session, office.product))
    with pytest.raises(Invalid, match="once it has a plan on sale"):
        products.create(office.manager, replace(typed, name="Another", strangers_plan=office.plans["Ketch"]))
    office.change_product(strangers_plan=office.plans["Ketch"])
    twin = products.clone(office.manager, office.product, "Another")
    assert twin.strangers_plan is None


def test_an_operation_without_a_sandbox_is_not_there_to_be_tried(office: Office) -> None:
    version = versions.one(office.manager, office.api)
    assert version.sandbox_url == ""

    with pytest.raises(Conflict, match="has no sandbox"):
        strangers.let_anyone_try(office.manager, office.api, list(office.operations.values()), True)
