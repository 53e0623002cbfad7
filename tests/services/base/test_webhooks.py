"""A webhook is signed as the standard's own library checks it, and anything changed of it is noticed."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta

import pytest
from standardwebhooks import Webhook, WebhookVerificationError

from calm_tariff.services.base import webhooks


@pytest.fixture
def now() -> datetime:
    """The moment itself: whoever checks a signature does so by a clock of their own."""
    return datetime.now(UTC)


def test_whoever_has_the_secret_can_tell_that_it_is_ours(now: datetime) -> None:
    secret = webhooks.new_secret()
    body = webhooks.event("alert.reached", now, {"alert": 1, "said": "“x”"})
    made = webhooks.signed(secret, "alert-1-5", now, body)
    assert Webhook(secret).verify(made.body, dict(made.fields)) == json.loads(body)
    assert json.loads(body) == {
        "type": "alert.reached",
        "timestamp": now.isoformat(),
        "data": {"alert": 1, "said": "“x”"},
    }


@pytest.mark.parametrize("changed", ["body", "id", "time", "secret", "old"])
def test_what_was_changed_or_is_old_is_not_believed(changed: str, now: datetime) -> None:
    secret = webhooks.new_secret()
    now = now - timedelta(minutes=6) if changed == "old" else now
    made = webhooks.signed(secret, "alert-1-5", now, '{"type":"x"}')
    fields, body = dict(made.fields), made.body
    if changed == "body":
        body = b'{"type":"y"}'
    elif changed == "id":
        fields["webhook-id"] = "alert-2-5"
    elif changed == "time":
        fields["webhook-timestamp"] = str(int(fields["webhook-timestamp"]) + 1)
    elif changed == "secret":
        secret = webhooks.new_secret()
    with pytest.raises(WebhookVerificationError):
        Webhook(secret).verify(body, fields)
