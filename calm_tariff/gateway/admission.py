"""From a call to what it may do: credential, operation, subscription, body, back end — in that order."""

from __future__ import annotations

from calm_tariff.gateway import credentials, forwarding
from calm_tariff.gateway.asked import Asked
from calm_tariff.gateway.credentials import Fault, Identity
from calm_tariff.gateway.routing import OVERRIDES, is_odd, is_plain
from calm_tariff.gateway.snapshot import Snapshot
from calm_tariff.gateway.tokens import Tokens


async def identify(snapshot: Snapshot, tokens: Tokens, asked: Asked, query: bytes) -> Fault | None:
    """Find out whose call it is."""
    shown = credentials.presented(snapshot, asked.headers, query)
    if isinstance(shown, Fault):
        return shown
    asked.presented = shown
    found: Identity | Fault
    if shown.kind == "key":
        found = credentials.by_key(snapshot, shown.text, asked.at_us)
    elif shown.kind == "basic":
        found = credentials.by_basic(snapshot, shown.text, asked.at_us)
    else:
        found = await tokens.identify(snapshot, shown.text, asked.at_us)
    if isinstance(found, Fault):
        return found
    asked.identity = found
    return None


def route(asked: Asked) -> Fault | None:
    """Find the operation the call is for. `asked.place` is known already."""
    place = asked.place
    if not is_plain(asked.path):
        detail = "The path has . or .. segments, or an encoded slash, backslash or control character."
        return Fault(400, "path-not-plain", "Not a plain path", detail, "route")
    if place is None:
        detail = f"No API answers {asked.method} {asked.path} here."
        return Fault(404, "operation-unknown", "No such operation", detail, "route")
    if place.route.gone_at(asked.at_us):
        return Fault(410, "version-gone", "Gone", f"{place.route.name} answers no more.", "route")
    let_through = place.route.forwarding.lets_through
    if "odd paths" not in let_through and is_odd(asked.path):
        detail = "The path holds ;, an encoded ? or #, or bytes that are no UTF-8, which back ends read differently."
        return Fault(400, "path-odd", "Not a plain path", detail, "route")
    if "overrides" not in let_through:
        for name, _ in asked.headers:
            if name in OVERRIDES:
                detail = f"{name.decode()} asks for another method or path than the call's own, and is not taken here."
                return Fault(400, "override", "Method or path overridden", detail, "route")
    if place.match.operation_id is None:
        detail = f"This path answers {', '.join(place.match.methods)}."
        return Fault(405, "method-not-allowed", "Not with this method", detail, "route")
    asked.operation_id = place.match.operation_id
    return None


def find_access(snapshot: Snapshot, asked: Asked) -> Fault | None:
    """Find the subscription that covers the operation, and hold the credential against its product's rules."""
    identity, place, shown = asked.identity, asked.place, asked.presented
    assert identity and place and shown and asked.operation_id is not None
    access = snapshot.access(identity.application_id, asked.operation_id, asked.environment, identity.kind, asked.at_us)
    if access is None:
        detail = "The credential is good, but no active subscription covers this operation."
        return Fault(403, "no-subscription", "Not part of a plan", detail, "access")
    fault = credentials.not_taken(shown, identity, access.rules)
    if fault is not None:
        return fault
    asked.access = access
    if place.match.other_case and "other case" not in place.route.forwarding.lets_through:
        for other in place.match.other_case:
            at = (asked.environment, identity.kind, asked.at_us)
            if snapshot.access(identity.application_id, other, *at) is None:
                detail = "In another case this path is another operation, which no active subscription covers."
                return Fault(403, "path-other-case", "Not part of a plan", detail, "access")
    if identity.scopes is not None and not identity.scopes & access.scopes:
        needed = " or ".join(sorted(access.scopes))
        return Fault(403, "scope-missing", "Not in the token's scope", f"The token needs the scope {needed}.", "access")
    no_sandbox = identity.environment == "sandbox" and not place.route.sandbox_url
    if no_sandbox and snapshot.example(asked.operation_id, "sandbox") is None:
        detail = f"{place.route.name} has no sandbox. Call it with a live credential."
        return Fault(403, "wrong-environment", "No sandbox", detail, "access")
    most = place.route.forwarding.most_body_bytes
    if forwarding.announced(asked.headers) > most:
        detail = f"{place.route.name} takes bodies of up to {most:,} bytes."
        return Fault(413, "body-too-large", "Body too large", detail, "body")
    return None


def after_trial(snapshot: Snapshot, asked: Asked) -> Fault | None:
    """Put a call that found a trial's units used under what follows the trial; a fault where nothing does."""
    access, identity = asked.access, asked.identity
    assert access and identity
    following = snapshot.after(access, asked.environment, identity.kind, asked.at_us)
    if following is None:
        detail = "The units of this trial are used, and the subscription has ended with them."
        return Fault(403, "trial-over", "The trial is over", detail, "trial")
    asked.access = following
    return None
