"""What refuses a call before any limit is asked, by the name under which calls are recorded and counted."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final, Literal

Reason = Literal[
    "credential",
    "route",
    "bounds",
    "access",
    "suspension",
    "payment",
    "pause",
    "body",
    "back end",
    "trial",
    "counters",
    "another gateway",
]
ANOTHER_GATEWAY: Final = "another gateway"
REASONS: Mapping[str, str] = {
    "credential": "No valid credential",
    "route": "No such operation",
    "bounds": "The key is narrowed to other addresses or operations",
    "access": "The subscription or the credential's kind does not cover the operation",
    "suspension": "The consumer was suspended",
    "payment": "Calls of the consumer were paused until an overdue invoice is paid",
    "pause": "The subscription that covers the operation was paused",
    "body": "The body is too large",
    "back end": "The back end is left alone after failing again and again",
    "trial": "The units of the trial are used, and the subscription has ended with them",
    "counters": "The shared counts are away, and calls are refused meanwhile",
    ANOTHER_GATEWAY: "Another gateway refused it",
}


def in_words(by: str) -> str:
    """What refused a call: something before the limits, in words, or a limit by its name. `limits.check_name` lets
    no limit be named like a reason, so that the one is never taken for the other."""
    return REASONS.get(by, by)
