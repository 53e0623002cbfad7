"""A call as the limiter sees it: whose it is, what it costs, and the values it carries that limits count by."""

from __future__ import annotations

import hmac

from calm_tariff.core import strangers
from calm_tariff.core.limits import Call, Costs
from calm_tariff.gateway.verdict.calls import Admitted
from calm_tariff.gateway.verdict.credentials import WITHOUT

SHOWN = 4


def counted(admitted: Admitted, secret: bytes = b"") -> Call:
    """The call as the limiter sees it; the values it is counted by are hashed with a secret. One without a credential
    is counted for its address in all that is counted."""
    access, identity = admitted.access, admitted.identified.identity
    if identity.kind == WITHOUT.kind:
        values = {**_carried(admitted, secret), "address": veiled(strangers.whose(admitted.call.address), secret)}
        return strangers_call(admitted.call.at_us, access.operation, values, access.costs)
    return Call(
        at_us=admitted.call.at_us,
        key=key_subject(identity.key_id, identity.application_id),
        application=str(identity.application_id),
        consumer=str(identity.consumer_id),
        subscription=str(access.grant.subscription_id),
        operation=access.operation,
        units=1,
        values=_carried(admitted, secret) if access.wants else None,
        settles=False,
        costs=access.costs,
    )


def strangers_call(at_us: int, operation: str, values: dict[str, str], costs: Costs | None = None) -> Call:
    """A call without a credential as the limiter sees it, by the values it carries, its address among them."""
    whose = f"address {values.get('address', '')}"
    return Call(at_us, whose, whose, whose, whose, operation, values=values, costs=costs)


def key_subject(key_id: int | None, application_id: int) -> str:
    """Whose count a limit per key adds to; tokens of outside issuers have no key, so the application stands in."""
    return str(key_id) if key_id else f"application {application_id}"


def veiled(value: str, secret: bytes) -> str:
    """What is kept of a value that calls carry: enough to tell values apart, and to know one's own again."""
    value = value.encode("utf-8", "replace").decode()  # a claim may hold half a character, which no record can
    digest = hmac.digest(secret, value.encode(), "sha256").hex()[:20]
    return f"{value[:SHOWN]}…{digest}" if len(value) >= 2 * SHOWN else digest


def _carried(admitted: Admitted, secret: bytes) -> dict[str, str]:
    """The values limits count by that this call carries: claims of its token, its headers, its address. As they are
    counted and recorded: a keyed hash, behind the first characters of a longer value."""
    call, identity = admitted.call, admitted.identified.identity
    found: dict[str, str] = {}
    for want in admitted.access.wants:
        kind, _, name = want.partition(":")
        value: str | None = None
        if want == "address":
            value = call.address
        elif kind == "header":
            sought = name.lower().encode()
            given = next((v for k, v in call.headers if k == sought), None)
            value = None if given is None else given.decode("latin-1")
        elif kind == "claim" and name in identity.claims:
            value = str(identity.claims[name])
        if value is not None:
            found[want] = veiled(value, secret)
    return found
