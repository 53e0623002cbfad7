"""What a call came with, as its record keeps it, and the beginnings of its bodies: never a credential."""

from __future__ import annotations

from typing import Any

from calm_tariff.core import keys
from calm_tariff.core.limits import SECRET_HEADERS
from calm_tariff.formats import bodies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict import calls
from calm_tariff.gateway.verdict.calls import InboundCall, Outcome, Verdict
from calm_tariff.gateway.verdict.credentials import without_keys

LONGEST_QUERY, LONGEST_HEADER, LONGEST_ADDRESS = 2000, 400, 60
# Where a token may stand in a query (RFC 6750, section 2.3), whatever products say.
_TOKENS = frozenset({"access_token"})


def sent(verdict: Verdict, snapshot: Snapshot) -> dict[str, Any]:
    """The address, the query without what may be a key, and of the header fields those that the API's owner chose."""
    call, place = verdict.call, calls.located(verdict).place
    kept: dict[str, Any] = {"address": call.address[:LONGEST_ADDRESS]}
    if call.query:
        query = without_keys(call.query, snapshot.key_queries | _TOKENS).decode("latin-1")
        kept["query"] = keys.blanked(query)[:LONGEST_QUERY]
    if place is not None and place.route.forwarding.kept_headers:
        kept["headers"] = _chosen(call, place.route.forwarding.kept_headers, snapshot.key_headers)
    return kept


def bodies_of(outcome: Outcome) -> dict[str, Any] | None:
    """The beginnings of the bodies that were kept of a call, if any were."""
    found = {
        name: bodies.described(body, headers, keys.blanked)
        for name, body, headers in (
            ("sent", outcome.sent_body, outcome.sent_fields),
            ("answered", outcome.answered_body, outcome.answered_fields),
        )
        if body is not None and body.size
    }
    return found or None


def keeps_bodies(verdict: Verdict) -> bool:
    """Whether the beginnings of a call's bodies are to be kept: in the sandbox, where the API's owner has it so."""
    known, place = calls.identified(verdict), calls.located(verdict).place
    if known is None or known.environment != "sandbox" or place is None:
        return False
    return place.route.forwarding.keeps_bodies


def _chosen(call: InboundCall, wanted: frozenset[str], carrying: frozenset[bytes]) -> dict[str, str]:
    found: dict[str, str] = {}
    for name, value in call.headers:
        text = name.decode("latin-1")
        if text in wanted and name not in carrying and text not in SECRET_HEADERS:
            found[text] = keys.blanked(value.decode("latin-1"))[:LONGEST_HEADER]
    return found


def fields(headers: Headers) -> dict[str, str]:
    """What describes a body, of a message's header fields."""
    wanted = (b"content-type", b"content-encoding")
    return {name.decode(): value.decode("latin-1") for name, value in headers if name in wanted}
