"""Whom the gateway believes about where a call comes from."""

from __future__ import annotations

from pathlib import Path

from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.forward.forwarding import passed_headers
from calm_tariff.gateway.recording.journal import Journal


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
