"""What the gateway says by itself."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import orjson

from calm_tariff.gateway import answers
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict.calls import Judged, Refused
from calm_tariff.services.serve.gateway_feed import Feed, read_feed
from tests.gateway.ends import Ends, ends
from tests.processes import awaited

__all__ = ["ends"]


def told(verdict: object) -> dict[bytes, list[bytes]]:
    assert isinstance(verdict, Refused)
    found: dict[bytes, list[bytes]] = {}
    for name, value in answers.challenge(verdict):
        found.setdefault(name, []).append(value)
    return found


def anew(ends: Ends, **changes: Any) -> None:
    """The same gateway with its feed changed."""
    feed = read_feed(ends.office.ctx)
    ends.gateway.snapshot = Snapshot(replace(feed, **{name: change(feed) for name, change in changes.items()}))


def kinds(*wanted: str) -> Any:
    def change(feed: Feed) -> Any:
        return {key: replace(rules, kinds=frozenset(wanted)) for key, rules in feed.products.items()}

    return change


def test_who_shows_no_credential_is_told_how_to(ends: Ends) -> None:
    assert told(ends.judged()) == {b"www-authenticate": [b'Bearer realm="api"', b'Basic realm="api"']}
    broken = told(ends.judged(authorization="Bearer a.b.c"))[b"www-authenticate"]
    assert broken[0] == b'Bearer realm="api", error="invalid_token"'  # RFC 6750, 3.1


def test_who_shows_a_kind_that_the_product_does_not_take_is_told_what_it_takes(ends: Ends) -> None:
    anew(ends, products=kinds("token"))
    assert told(ends.judged(x_api_key=ends.key)) == {b"www-authenticate": [b'Bearer realm="api"']}
    anew(ends, products=kinds("token", "basic"))
    assert len(told(ends.judged(x_api_key=ends.key))[b"www-authenticate"]) == 2


def test_who_asks_in_a_way_that_the_path_does_not_answer_is_told_those_it_does(ends: Ends) -> None:
    assert told(ends.judged(method="DELETE", x_api_key=ends.key)) == {b"allow": [b"GET, HEAD, OPTIONS"]}
    assert told(ends.judged("/tides/v1/nothing", x_api_key=ends.key)) == {}
    assert told(ends.judged(x_api_key=ends.key, content_length="99999999999")) == {}


def test_a_back_end_is_told_who_calls_in_plain_characters(ends: Ends) -> None:
    def named(feed: Feed) -> Any:
        return tuple(replace(c, name="Fähre\r\nX: y", tags=(("Team", "Süd"),)) for c in feed.callers)

    anew(ends, callers=named)
    verdict = ends.judged(x_api_key=ends.key)
    assert isinstance(verdict, Judged)
    fields = dict(answers.told_back_end(verdict.admitted))
    assert fields[b"calm-application"] == b"F%C3%A4hre%0D%0AX: y"
    assert fields[b"calm-consumer"] == b"Ferries" and fields[b"calm-plan"] == b"Harbour Data / Ketch"
    assert fields[b"calm-environment"] == b"live"
    assert all(32 <= byte < 127 for value in fields.values() for byte in value)  # no line of its own is smuggled in
    assert ends.key not in str(fields)


def test_a_gateway_that_cannot_record_says_so_and_when_to_come_back() -> None:
    sent: list[dict[str, Any]] = []

    async def send(message: dict[str, Any]) -> None:
        sent.append(message)

    awaited(answers.not_ready(send))
    head, body = sent
    assert head["status"] == 503 and (b"retry-after", b"2") in head["headers"]
    assert orjson.loads(body["body"])["code"] == "not-ready"
