"""What runs, as each process reports it, and which of it is believed to live."""

from __future__ import annotations

from datetime import timedelta

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.base import stamps
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.instances import ALIVE, FORGOTTEN
from tests.office import START, Office


def report(office: Office, name: str = "gateway-1", kind: str = "gateway", **words: object) -> None:
    instances.report(office.ctx, name, kind, START, dict(words))


def alive(office: Office) -> dict[str, bool]:
    return {one.name: one.alive for one in instances.health(office.manager).instances}


def test_who_has_not_reported_for_a_while_is_shown_as_silent_and_after_a_day_not_at_all(office: Office) -> None:
    report(office)
    report(office, "worker", "worker")
    office.clock.forward(seconds=int(ALIVE.total_seconds()) - 1)
    assert alive(office) == {"gateway-1": True, "worker": True}
    report(office, "worker", "worker")
    office.clock.forward(seconds=1)
    assert alive(office) == {"gateway-1": False, "worker": True}
    office.clock.forward(seconds=int(FORGOTTEN.total_seconds()))
    assert alive(office) == {}


def test_the_last_report_stands_and_one_that_left_is_waited_for_no_more(office: Office) -> None:
    report(office, calls=1)
    report(office, calls=2)
    (one,) = instances.health(office.manager).instances
    assert one.report["calls"] == 2 and one.report["version"] == instances.version()
    instances.leave(office.ctx, "gateway-1")
    instances.leave(office.ctx, "never was")
    assert alive(office) == {}


def test_a_gateway_is_behind_by_as_many_changes_as_its_terms_lack(office: Office) -> None:
    number = instances.health(office.manager).snapshot
    report(office, snapshot=number)
    report(office, "gateway-2", snapshot=number + 5)  # it has read a change that this reader has not
    report(office, "worker", "worker")
    for _ in range(3):
        with office.ctx.transaction() as session:
            stamps.touch(session, office.ctx)
    told = instances.health(office.manager)
    assert {one.name: one.behind for one in told.instances} == {"gateway-1": 3, "gateway-2": 0, "worker": 0}
    assert (told.snapshot, told.changed_at) == (number + 3, office.ctx.now)


def test_who_shares_counts_and_who_decides_are_gateways_that_live(office: Office) -> None:
    report(office, shares="redis://a", decides_at="http://10.0.0.1:8405")
    report(office, "gateway-2", shares="redis://a", decides_at="http://10.0.0.2:8405")
    report(office, "gateway-3", shares="redis://b")
    report(office, "worker", "worker", shares="redis://a", decides_at="http://10.0.0.9:8405")
    assert instances.sharing(office.ctx, "redis://a") == {"gateway-1", "gateway-2"}
    within = timedelta(seconds=30)
    assert instances.deciding(office.ctx, but="gateway-1", within=within) == ["http://10.0.0.2:8405"]
    office.clock.forward(seconds=10)
    assert instances.sharing(office.ctx, "redis://a") == frozenset()
    # One that was here a moment ago may still know a call.
    assert instances.deciding(office.ctx, but="gateway-1", within=within) == ["http://10.0.0.2:8405"]
    office.clock.forward(seconds=21)
    assert instances.deciding(office.ctx, but="gateway-1", within=within) == []


def test_no_consumer_sees_what_runs(office: Office) -> None:
    with pytest.raises(NotSignedIn):
        instances.health(office.acting(office.consumers[0]))
