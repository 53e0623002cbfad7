"""Parts of the gateway by themselves: promises on disk, the breaker, where a call came from."""

from __future__ import annotations

from pathlib import Path

import pytest

from calm_tariff.gateway import promises
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.breaker import Breaker
from calm_tariff.gateway.counted import veiled
from calm_tariff.gateway.credentials import without_keys
from calm_tariff.gateway.forwarding import passed_headers
from calm_tariff.gateway.journal import Journal
from calm_tariff.gateway.promises import Promises


def test_promises_survive_a_crash_and_do_not_pile_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(promises, "LONGEST", 2000)
    kept = Promises(tmp_path / "promises")
    assert kept.start() == []
    kept.make({"call_id": "open all the time", "told": {}})
    for n in range(500):
        kept.make({"call_id": f"{n}", "told": {"ratelimit": "x"}})
        kept.told(f"{n}")
    assert kept.path.stat().st_size < 4000
    kept.make({"call_id": "last", "told": {}})
    with kept.path.open("ab") as torn:
        torn.write(b'{"call_id": "cut o')  # a crash in the middle of a line
    again = Promises(tmp_path / "promises")
    assert [record["call_id"] for record in again.start()] == ["open all the time", "last"]


def test_a_breaker_opens_rests_tries_once_and_closes() -> None:
    breaker = Breaker(3, 10)
    for _ in range(2):
        breaker.end(False, 0.0)
    assert breaker.wait(0.0) == 0
    breaker.end(False, 0.0)
    assert breaker.wait(4.0) == 6.0
    assert breaker.wait(10.0) == 0
    breaker.begin()
    assert breaker.wait(10.0) > 0  # one call tries; the others wait for what becomes of it
    breaker.end(False, 11.0)
    assert breaker.wait(20.0) == 1.0
    breaker.begin()
    breaker.end(True, 21.0)
    assert breaker.wait(21.0) == 0
    never = Breaker(0, 10)
    for _ in range(9):
        never.end(False, 0.0)
    assert never.wait(0.0) == 0


def test_only_a_trusted_proxy_is_believed_about_the_way(tmp_path: Path) -> None:
    gateway = Gateway(Journal(tmp_path), trusted=frozenset({"10.0.0.1", "10.0.0.2"}))
    said = [(b"x-forwarded-for", b"203.0.113.9, 192.0.2.7, 10.0.0.2"), (b"host", b"api.example")]
    table = {
        "10.0.0.1": ("192.0.2.7", "10.0.0.1", True),  # what came before the first stranger is that one's word
        "198.51.100.4": ("198.51.100.4", "198.51.100.4", False),
    }
    for peer, wanted in table.items():
        assert gateway._sender({"client": (peer, 1), "headers": said}) == wanted
    by_proxy = dict(passed_headers(said, {b"x-api-key"}, *table["10.0.0.1"]))
    assert by_proxy[b"x-forwarded-for"] == b"203.0.113.9, 192.0.2.7, 10.0.0.2, 10.0.0.1"
    assert by_proxy[b"forwarded"] == b'for=192.0.2.7;proto=http;host="api.example"'
    direct = dict(passed_headers(said, {b"x-api-key"}, *table["198.51.100.4"]))
    assert direct[b"x-forwarded-for"] == b"198.51.100.4"


def test_no_credential_of_any_product_reaches_a_back_end_in_any_spelling() -> None:
    sent = [
        (b"x-api-key", b"one"),
        (b"x-tide-key", b"another product's"),
        (b"x-api-key", b"again"),
        (b"x_api_key", b"wsgi"),
        (b"authorization", b"Basic x"),
        (b"proxy-authorization", b"y"),
        (b"cookie", b"calm_console=a; theirs=b"),
        (b"cookie", b"__Host-calm_portal=c"),
        (b"accept", b"*/*"),
        (b"x_custom", b"kept"),
    ]
    passed = passed_headers(sent, {b"x-api-key", b"x-tide-key"}, "192.0.2.1", "192.0.2.1", False)
    own = [field for field in passed if field[0] not in (b"x-forwarded-for", b"forwarded", b"traceparent")]
    assert own == [(b"cookie", b"theirs=b"), (b"accept", b"*/*"), (b"x_custom", b"kept")]


@pytest.mark.parametrize(
    "name",
    [
        "calm-consumer",
        "calm_consumer",
        "calm-anything",
        "calm_subscription",
        "x_forwarded_for",
        "x_forwarded_proto",
        "traceparent",
        "transfer_encoding",
        "content_length",
        "authorization",
    ],
)
def test_what_we_say_ourselves_cannot_be_said_by_a_caller(name: str) -> None:
    passed = passed_headers([(name.encode(), b"forged")], {b"x-api-key"}, "192.0.2.1", "192.0.2.1", False)
    assert b"forged" not in [value for _, value in passed]


def test_every_key_in_a_query_is_taken_away_however_often_it_comes() -> None:
    query = b"a=1&key=x&b=2&%6Bey=y&apikey=z&key=&c"
    assert without_keys(query, {"key", "apikey"}) == b"a=1&b=2&c"


def test_a_value_counted_by_is_kept_so_that_it_cannot_be_read() -> None:
    one, other = veiled("station-larkmouth", b"secret"), veiled("station-saltgrave", b"secret")
    assert one.startswith("stat…") and one != other and "larkmouth" not in one
    assert veiled("station-larkmouth", b"another secret") != one
    assert "lm-1" not in veiled("lm-1", b"secret")  # of a short one not even the beginning
    assert veiled("lm-1", b"secret") == veiled("lm-1", b"secret")
    assert veiled("\ud800 half a character", b"secret").startswith("? ha…")  # and it can be recorded
