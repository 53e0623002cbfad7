"""What a back end is asked for: without the caller's credential, with the provider's own. How its answers come back is
tested over real connections (`test_wire`)."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.forward.forwarder import Forwarder
from calm_tariff.gateway.verdict.calls import Judged, Outcome
from calm_tariff.services.admit import credentials
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.gateway.ends import PATH, Ends, ends

__all__ = ["ends"]


def asked(ends: Ends, path: str = PATH, query: bytes = b"", **headers: str) -> tuple[str, dict[str, str]]:
    """The address a back end is asked for, and the fields it gets."""
    verdict = ends.judged(path, **{"x_api_key": ends.key, **headers})
    assert isinstance(verdict, Judged)
    shown = verdict.admitted.identified.shown
    call = shown.located.call._replace(query=query)
    identified = verdict.admitted.identified._replace(shown=shown._replace(located=shown.located._replace(call=call)))
    routed = verdict.admitted.routed._replace(identified=identified)
    none: Any = None
    forwarder = Forwarder(
        judged=verdict._replace(admitted=verdict.admitted._replace(routed=routed)),
        outcome=Outcome(),
        fields=[],
        snapshot=ends.gateway.snapshot,
        session=none,
        breaker=none,
        scope={},
        receive=none,
        send=none,
        record=none,
        answer=none,
        sender_seconds=1,
        reader_seconds=1,
        keeps=False,
    )
    return forwarder._url(), {k.decode(): v.decode() for k, v in forwarder._headers()}


def anew(ends: Ends, **route: Any) -> None:
    feed = read_feed(ends.office.ctx)
    rules = {key: replace(r, key_query="api_key") for key, r in feed.products.items()}
    ends.gateway.snapshot = Snapshot(
        replace(feed, routes=tuple(replace(r, **route) for r in feed.routes), products=rules)
    )


@pytest.mark.parametrize("base", ["http://back.example/tides", "http://back.example/tides/"])
def test_the_rest_of_the_path_is_put_to_the_back_ends_address_and_keys_are_taken_from_the_query(
    ends: Ends, base: str
) -> None:
    anew(ends, back_end_url=base)
    url, headers = asked(ends, query=b"near=a%20b&api_key=lt_live_x&x=%C3%A9")
    assert url == "http://back.example/tides/stations/lm-01?near=a%20b&x=%C3%A9"
    assert "x-api-key" not in headers and ends.key not in str(headers)
    assert asked(ends, query=b"api_key=lt_live_x")[0] == "http://back.example/tides/stations/lm-01"


def test_each_environment_has_its_back_end_and_its_login(ends: Ends) -> None:
    logins = {"login": "Basic bGl2ZQ==", "sandbox_login": "Basic dHJ5"}
    anew(ends, back_end_url="http://live.example", sandbox_url="http://try.example", **logins)
    url, headers = asked(ends)
    assert (url, headers["authorization"]) == ("http://live.example/stations/lm-01", logins["login"])
    one = ends.office.consumers[0]
    made = credentials.make_key(ends.office.acting(one), one.application, "try", environment="sandbox")
    anew(ends, back_end_url="http://live.example", sandbox_url="http://try.example", **logins)
    url, headers = asked(ends, x_api_key=made.secret)
    assert (url, headers["authorization"]) == ("http://try.example/stations/lm-01", logins["sandbox_login"])


def test_what_a_caller_says_of_itself_is_replaced_by_what_is_known(ends: Ends) -> None:
    forwarding = replace(read_feed(ends.office.ctx).routes[0].forwarding, passes_caller=True)
    anew(ends, forwarding=forwarding)
    _, headers = asked(ends, calm_consumer="Somebody else", calm_plan="Frigate")
    assert (headers["calm-consumer"], headers["calm-plan"]) == ("Ferries", "Harbour Data / Ketch")
    anew(ends)
    _, headers = asked(ends, calm_consumer="Somebody else")
    assert not [name for name in headers if name.startswith("calm-")]
