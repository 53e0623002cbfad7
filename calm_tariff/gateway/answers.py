"""What the gateway says by itself: how to do better, that a back end is down, who calls."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from calm_tariff.core.meters import CREDENTIALS
from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway import cors
from calm_tariff.gateway.verdict import calls
from calm_tariff.gateway.verdict.calls import Admitted, Refused
from calm_tariff.gateway.verdict.credentials import WITHOUT

Send = Callable[[dict[str, Any]], Any]


def challenge(refused: Refused) -> Headers:
    """What a refused caller could do instead, as fields: `WWW-Authenticate` (RFC 6750, 7617) and `Allow`."""
    fault, place, admitted = refused.fault, calls.located(refused).place, calls.admitted(refused)
    if fault.status == 405 and place:
        return [(b"allow", ", ".join(cors.methods(place)).encode())]
    if fault.code == "scope-missing" and admitted:
        scopes = " ".join(sorted(admitted.access.scopes)).encode()
        return [(b"www-authenticate", b'Bearer realm="api", error="insufficient_scope", scope="' + scopes + b'"')]
    if fault.status != 401:
        return []
    kinds = admitted.access.rules.kinds if admitted else frozenset(CREDENTIALS)
    error = b', error="invalid_token"' if fault.code.startswith("token-") else b""
    basic = [(b"www-authenticate", b'Basic realm="api"')] if "basic" in kinds else []
    return [(b"www-authenticate", b'Bearer realm="api"' + error), *basic]


DOWN = {
    502: ("The back end answered nonsense", "The call was let through, but the back end broke off. Try again shortly."),
    503: (
        "The back end is down",
        "The call was let through, but the back end did not answer. Try again shortly.",
    ),
    504: ("The back end takes too long", "The call was let through, but the back end did not answer in time."),
}
DOWN_CODES = {502: "back-end-broke-off", 503: "back-end-down", 504: "back-end-too-slow"}


def told_back_end(admitted: Admitted) -> Headers:
    """Who calls, for back ends whose owner wants to know. Values are percent-encoded where they are not ASCII."""
    caller, grant = admitted.access.caller, admitted.access.grant
    if admitted.identified.identity.kind == WITHOUT.kind:
        return [(b"calm-environment", admitted.environment.encode())]
    told = [
        (b"calm-consumer", caller.consumer),
        (b"calm-application", caller.name),
        (b"calm-client", caller.client_id),
        (b"calm-plan", f"{grant.product} / {grant.plan}"),
        (b"calm-subscription", str(grant.subscription_id)),
        (b"calm-environment", admitted.environment),
    ]
    fields = [(k, replies.plain_text(v)) for k, v in told]
    if caller.tags:
        fields.append((b"calm-tags", replies.dictionary(caller.tags)))
    return fields


async def not_ready(send: Send) -> None:
    """Say that calls cannot be recorded, and are therefore not served."""
    body, headers = replies.problem(
        503,
        "Not ready",
        "The gateway cannot record calls at the moment and serves none. Try again shortly.",
        code="not-ready",
    )
    headers.append((b"retry-after", b"2"))
    await send({"type": "http.response.start", "status": 503, "headers": headers})
    await send({"type": "http.response.body", "body": body})
