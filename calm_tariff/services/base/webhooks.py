"""Webhooks: what is sent, and how it is signed (Standard Webhooks 1.0), so that whoever gets it can tell that it is
ours, and that it was not sent before."""

from __future__ import annotations

import base64
import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from standardwebhooks import Webhook

_BYTES = 32


@dataclass(frozen=True, slots=True)
class Signed:
    """A webhook as it is sent: a POST of `body` with these header fields."""

    body: bytes
    fields: Mapping[str, str]


def new_secret() -> str:
    """A secret for whoever is to check signatures, in the form that the standard's libraries take."""
    return f"whsec_{base64.b64encode(secrets.token_bytes(_BYTES)).decode()}"


def signed(secret: str, event_id: str, now: datetime, body: str) -> Signed:
    """A webhook signed at a moment. Tried again it keeps its id, and is signed anew."""
    fields = {
        "content-type": "application/json",
        "webhook-id": event_id,
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": Webhook(secret).sign(event_id, now, body),
    }
    return Signed(body.encode(), fields)


def event(kind: str, now: datetime, data: Mapping[str, Any]) -> str:
    """The body of an event: its type, when it was, and what it is of."""
    return json.dumps({"type": kind, "timestamp": now.isoformat(), "data": dict(data)}, separators=(",", ":"))
