"""What is kept of a call as it came: of what may prove who calls, nothing."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from calm_tariff.core import keys
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.recording.sent import LONGEST_HEADER, LONGEST_QUERY, sent
from calm_tariff.gateway.verdict import judging
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.gateway.ends import PATH, Ends, ends
from tests.processes import awaited

__all__ = ["ends"]


def kept(ends: Ends, query: bytes = b"", path: str = PATH, **headers: str) -> dict[str, Any]:
    """What is kept of a call with a good key."""
    gateway = ends.gateway
    call = ends.judged(path, **{"x_api_key": ends.key, **headers}).call._replace(query=query)
    return sent(awaited(judging.judge(gateway, judging.locate(gateway, call))), gateway.snapshot)


def recording(ends: Ends, *headers: str) -> None:
    """Have these header fields recorded, and a key taken from the query as well."""
    feed = read_feed(ends.office.ctx)
    routes = tuple(replace(r, forwarding=replace(r.forwarding, kept_headers=frozenset(headers))) for r in feed.routes)
    products = {key: replace(rules, key_query="key") for key, rules in feed.products.items()}
    ends.gateway.snapshot = Snapshot(replace(feed, routes=routes, products=products))


def test_address_query_and_chosen_fields_are_kept(ends: Ends) -> None:
    recording(ends, "user-agent", "x-ship")
    assert kept(ends, b"hours=3&at=12%3A00", user_agent="shore/1", x_ship="17", accept="x", x_other="y") == {
        "address": "192.0.2.7",
        "query": "hours=3&at=12%3A00",
        "headers": {"user-agent": "shore/1", "x-ship": "17"},
    }
    assert kept(ends, path="/nowhere", user_agent="shore/1") == {"address": "192.0.2.7"}  # nobody chose for no API


def test_no_credential_is_kept_wherever_it_stands(ends: Ends) -> None:
    # As if somebody had chosen them all the same.
    recording(ends, "x-api-key", "authorization", "cookie", "proxy-authorization", "x-note")
    secret = keys.made("secret", "live", "s")
    query = f"key={ends.key}&k%65y={ends.key}&access_token=abc.def.ghi&apikey={ends.key}&hours=3"
    for text in (
        str(kept(ends, query.encode(), x_note=f"my key is {ends.key}", cookie="a=b")),
        str(kept(ends, b"", authorization=f"Basic {secret}", proxy_authorization="Basic x")),
        str(kept(ends, f"s={secret}".encode(), path="/nowhere")),
    ):
        assert ends.key not in text and secret not in text
        assert not any(word in text for word in ("abc.def", "a=b", "Basic", "x-api-key"))
    assert kept(ends, query.encode())["query"] == f"apikey={keys.beginning(ends.key)}…&hours=3"


def test_what_is_long_is_cut(ends: Ends) -> None:
    recording(ends, "x-ship")
    said = kept(ends, b"q=" + b"x" * 10_000, x_ship="y" * 5000)
    assert (len(said["query"]), len(said["headers"]["x-ship"])) == (LONGEST_QUERY, LONGEST_HEADER)
