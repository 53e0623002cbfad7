"""One way to a verdict: a call that the gateway forwards and one that a proxy does meet the same, the breaker too."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import orjson
import pytest

from calm_tariff.gateway.decision_service.decisions import PROMISED_SECONDS
from calm_tariff.gateway.verdict.breaker import Breakers
from calm_tariff.gateway.verdict.calls import Admitted, Judged, Refused
from tests.gateway.ends import Ends, ends

__all__ = ["ends"]

CASES: dict[str, tuple[dict[str, Any], str | None, int]] = {
    "served": ({}, None, 200),
    "no credential": ({"x_api_key": ""}, "credential", 401),
    "unknown credential": ({"x_api_key": "lt_live_nobody"}, "credential", 401),
    "no such operation": ({"path": "/tides/v1/nothing"}, "route", 404),
    "another method": ({"method": "DELETE"}, "route", 405),
    "a path that is read in two ways": ({"path": "/tides/v1/stations/../x"}, "route", 400),
    "another method asked for": ({"x_http_method_override": "DELETE"}, "route", 400),
    "a body too large": ({"content_length": "99999999999"}, "body", 413),
}


@pytest.mark.parametrize(("call", "by", "status"), CASES.values(), ids=CASES)
def test_both_ends_come_to_the_same_verdict(ends: Ends, call: dict[str, Any], by: str | None, status: int) -> None:
    asked = {"x_api_key": ends.key, **call}
    here, there = ends.judged(**asked), ends.decided(**asked)
    assert there.status == status
    if by is None:
        assert isinstance(here, Judged) and isinstance(there.verdict, Judged) and there.verdict.let_through
        assert here.admitted.access.grant == there.verdict.admitted.access.grant
        return
    assert isinstance(here, Refused) and isinstance(there.verdict, Refused)
    assert here.fault == there.verdict.fault and here.fault.by == by
    assert type(here.step) is type(there.verdict.step)
    assert orjson.loads(there.body)["code"] == here.fault.code


def test_a_back_end_that_proxies_find_failing_is_left_alone_at_both_ends(ends: Ends) -> None:
    for status in (503, 502, 500):
        ends.told(ends.decided(x_api_key=ends.key), status)
    for refused in (ends.judged(x_api_key=ends.key), ends.decided(x_api_key=ends.key).verdict):
        assert isinstance(refused, Refused) and refused.fault.code == "back-end-resting"
        assert isinstance(refused.step, Admitted) and (b"retry-after", b"10") in refused.fields
    ends.now += 10
    trying = ends.decided(x_api_key=ends.key)  # one may try
    assert trying.status == 200
    assert ends.decided(x_api_key=ends.key).status == 503
    ends.told(trying, 200)
    assert ends.decided(x_api_key=ends.key).status == 200


def test_a_try_whose_outcome_is_never_told_lets_another_try(ends: Ends) -> None:
    for _ in range(3):
        ends.told(ends.decided(x_api_key=ends.key), 503)
    ends.now += 10
    assert ends.decided(x_api_key=ends.key).status == 200
    assert ends.decided(x_api_key=ends.key).status == 503
    ends.now += PROMISED_SECONDS + 1
    ends.decisions.overdue(ends.now)
    assert ends.decided(x_api_key=ends.key).status == 200


def test_what_is_refused_at_rest_takes_nothing_from_the_limits(ends: Ends) -> None:
    before = ends.decided(x_api_key=ends.key)
    for status in (503, 503):
        ends.told(ends.decided(x_api_key=ends.key), status)
    ends.told(before, 503)
    for _ in range(20):
        assert ends.decided(x_api_key=ends.key).status == 503
    ends.now += 10
    after = ends.decided(x_api_key=ends.key)
    assert isinstance(after.verdict, Judged) and isinstance(before.verdict, Judged)
    left = [check.left for check in after.verdict.decided.decision.checks if check.limit.kind == "quota"]
    first = [check.left for check in before.verdict.decided.decision.checks if check.limit.kind == "quota"]
    assert left == first  # what failed counts nothing either


def test_a_breaker_follows_what_its_owner_sets(ends: Ends) -> None:
    verdict = ends.judged(x_api_key=ends.key)
    assert isinstance(verdict, Judged)
    breakers, admitted = Breakers(), verdict.admitted
    known = breakers.of(admitted)
    assert breakers.of(admitted) is known
    for _ in range(3):
        known.end(False, 5.0)
    assert list(breakers.resting(6.0)) == [f"{admitted.place.route.version_id}/live"]
    route = admitted.place.route
    changed = replace(route, forwarding=replace(route.forwarding, breaker_failures=0))
    other = admitted._replace(routed=admitted.routed._replace(place=replace(admitted.place, route=changed)))
    assert breakers.of(other).wait(6.0) == 0 and list(breakers.resting(6.0)) == []
