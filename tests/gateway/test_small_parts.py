"""Parts of the gateway by themselves: promises on disk, the breaker, where a call came from."""

from __future__ import annotations

from pathlib import Path

import pytest

from calm_tariff.gateway import promises
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.breaker import Breaker
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
    by_proxy = dict(passed_headers(said, b"x-api-key", *table["10.0.0.1"]))
    assert by_proxy[b"x-forwarded-for"] == b"203.0.113.9, 192.0.2.7, 10.0.0.2, 10.0.0.1"
    assert by_proxy[b"forwarded"] == b'for=192.0.2.7;proto=http;host="api.example"'
    direct = dict(passed_headers(said, b"x-api-key", *table["198.51.100.4"]))
    assert direct[b"x-forwarded-for"] == b"198.51.100.4"
