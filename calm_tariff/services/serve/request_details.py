"""What a recorded call came with, and the beginnings of its bodies where they are kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.usage import Call


@dataclass(frozen=True, slots=True, kw_only=True)
class BodyShown:
    """The beginning of a body: its `type`, its whole `size` in bytes, whether more came than is shown, and its text;
    none where it is `encoding`-encoded or no text."""

    type: str
    size: int
    cut: bool
    encoding: str
    text: str | None


@dataclass(frozen=True, slots=True, kw_only=True)
class RequestDetails:
    """A call as it was sent, without what proved who calls: method, path and query; the address it came from (empty
    where that was not recorded); the header fields that the API's owner has recorded; sizes in bytes."""

    line: str
    address: str
    fields: list[str]
    bytes_in: int
    bytes_out: int
    sent: BodyShown | None
    answered: BodyShown | None


def details(session: Session, call: Call) -> RequestDetails:
    """What a call came with."""
    kept = call_queries.bodies(session, call.call_id)
    query = call.sent.get("query", "")
    return RequestDetails(
        line=f"{call.method} {call.path}{f'?{query}' if query else ''}",
        address=call.sent.get("address", ""),
        fields=[f"{name}: {value}" for name, value in sorted(call.sent.get("headers", {}).items())],
        bytes_in=call.bytes_in,
        bytes_out=call.bytes_out,
        sent=_body(kept.sent) if kept and kept.sent else None,
        answered=_body(kept.answered) if kept and kept.answered else None,
    )


def _body(kept: Mapping[str, Any]) -> BodyShown:
    return BodyShown(
        type=kept["type"], size=kept["size"], cut=kept["cut"], encoding=kept["encoding"], text=kept["text"]
    )
