"""Webhooks: what is sent, and how it is signed (Standard Webhooks 1.0), so that whoever gets it can tell that it is
ours, and that it was not sent before."""

from __future__ import annotations

import base64
import hmac
import json
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session
from standardwebhooks import Webhook

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.record import ReceivedWebhook

_BYTES = 32
# So much the clocks of both sides may differ, with what sending takes.
TOLERATED = timedelta(minutes=5)


@dataclass(frozen=True, slots=True)
class Signed:
    """A webhook as it is sent: a POST of `body` with these header fields."""

    body: bytes
    fields: Mapping[str, str]


def new_secret() -> str:
    """A secret for whoever is to check signatures, in the form that the standard's libraries take."""
    return f"whsec_{base64.b64encode(secrets.token_bytes(_BYTES)).decode()}"


def signed(secret: str, event_id: str, now: datetime, body: str, former: str = "") -> Signed:
    """A webhook signed at a moment, with a `former` secret as well where whoever gets it may still know that one alone.
    Tried again it keeps its id, and is signed anew."""
    fields = {
        "content-type": "application/json",
        "webhook-id": event_id,
        "webhook-timestamp": str(int(now.timestamp())),
        "webhook-signature": " ".join(Webhook(one).sign(event_id, now, body) for one in (secret, former) if one),
    }
    return Signed(body.encode(), fields)


def secret_of(shared: str) -> str:
    """A secret that two sides know, in the form that the standard's libraries take."""
    return f"whsec_{base64.b64encode(shared.encode()).decode()}"


def verified(secret: str, body: bytes, fields: Mapping[str, str], now: datetime) -> str:
    """The id of a webhook that was signed with a secret, and of late. Raises `NotSignedIn`."""
    event_id, sent = fields.get("webhook-id", ""), fields.get("webhook-timestamp", "")
    if not (0 < len(event_id) <= 100 and sent.isascii() and sent.isdigit() and len(sent) < 12):
        raise NotSignedIn("it is not signed as a webhook is (Standard Webhooks)")
    at = datetime.fromtimestamp(int(sent), UTC)
    if abs(now - at) > TOLERATED:
        raise NotSignedIn("it was signed too long ago, or its clock goes wrong")
    try:
        right = Webhook(secret).sign(event_id, at, body.decode())
    except ValueError:
        raise NotSignedIn("its signature does not hold") from None
    given = fields.get("webhook-signature", "").split()
    if not any(hmac.compare_digest(one.encode(), right.encode()) for one in given):
        raise NotSignedIn("its signature does not hold")
    return event_id


def was_taken(session: Session, event_id: str) -> bool:
    """Whether a webhook was taken before."""
    return session.get(ReceivedWebhook, event_id) is not None


def take_once(session: Session, ctx: Context, event_id: str) -> bool:
    """Note that a webhook was taken; whether it was not before."""
    made = insert(ReceivedWebhook).values(id=event_id, received_at=ctx.now)
    return session.connection().execute(made.prefix_with("IGNORE")).rowcount > 0


def event(kind: str, now: datetime, data: Mapping[str, Any]) -> str:
    """The body of an event: its type, when it was, and what it is of."""
    return json.dumps({"type": kind, "timestamp": now.isoformat(), "data": dict(data)}, separators=(",", ":"))
