"""From a call to what it may do: credential, operation, subscription, body — in that order."""

from __future__ import annotations

from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.plain_paths import OVERRIDES, is_odd, is_plain
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict import credentials
from calm_tariff.gateway.verdict.calls import Admitted, Identified, Located, Refused, Routed, Shown
from calm_tariff.gateway.verdict.credentials import Fault, Identity
from calm_tariff.gateway.verdict.tokens import Tokens


async def identify(snapshot: Snapshot, tokens: Tokens, located: Located) -> Identified | Refused:
    """Find out whose call it is."""
    call = located.call
    presented = credentials.presented(snapshot, call.headers, call.query, call.certified)
    if isinstance(presented, Fault):
        known = _stranger(snapshot, located) if presented is credentials.NONE else None
        return known or Refused(located, presented)
    shown = Shown(located, presented)
    found: Identity | Fault
    if presented.kind == "key":
        found = credentials.by_key(snapshot, presented.text, call.at_us)
    elif presented.kind == "basic":
        found = credentials.by_basic(snapshot, presented.text, call.at_us)
    elif presented.kind == "certificate":
        found = credentials.by_certificate(snapshot, presented.text, call.at_us)
    else:
        found = await tokens.identify(snapshot, presented.text, call.at_us)
    return Refused(shown, found) if isinstance(found, Fault) else Identified(shown, found)


def _stranger(snapshot: Snapshot, located: Located) -> Identified | None:
    """A call without a credential, where its operation is sold open or may be tried in the sandbox by anyone."""
    call, operation = located.call, located.place.match.operation_id if located.place else None
    known = Identified(Shown(located, credentials.WITHOUT), credentials.stranger(call.headers))
    at = (known.environment, known.identity.kind, call.at_us)
    if operation is None or snapshot.access(known.identity.application_id, operation, *at) is None:
        return None
    return known


def route(identified: Identified) -> Routed | Refused:
    """Find the operation the call is for."""
    fault = _misrouted(identified.shown.located)
    if fault is not None:
        return Refused(identified, fault)
    place = identified.shown.located.place
    assert place and place.match.operation_id is not None  # or it would be misrouted
    return Routed(identified, place, place.match.operation_id)


def _misrouted(located: Located) -> Fault | None:
    """Why a call is for no operation, where it is for none."""
    call, place = located
    if not is_plain(call.path):
        detail = "The path has . or .. segments, or an encoded slash, backslash or control character."
        return Fault(400, "path-not-plain", "Not a plain path", detail, "route")
    if place is None:
        detail = f"No API answers {call.method} {call.path} here."
        return Fault(404, "operation-unknown", "No such operation", detail, "route")
    if place.route.gone_at(call.at_us):
        return Fault(410, "version-gone", "Gone", f"{place.route.name} answers no more.", "route")
    let_through = place.route.forwarding.lets_through
    if "odd paths" not in let_through and is_odd(call.path):
        detail = "The path holds ;, an encoded ? or #, or bytes that are no UTF-8, which back ends read differently."
        return Fault(400, "path-odd", "Not a plain path", detail, "route")
    if "overrides" not in let_through:
        for name, _ in call.headers:
            if name in OVERRIDES:
                detail = f"{name.decode()} asks for another method or path than the call's own, and is not taken here."
                return Fault(400, "override", "Method or path overridden", detail, "route")
    if place.match.operation_id is None:
        detail = f"This path answers {', '.join(place.match.methods)}."
        return Fault(405, "method-not-allowed", "Not with this method", detail, "route")
    return None


def admit(snapshot: Snapshot, routed: Routed) -> Admitted | Refused:
    """Find the subscription that covers the operation, and hold the call against its product's rules."""
    identified = routed.identified
    identity, call = identified.identity, identified.call
    fault = credentials.out_of_bounds(identity, call.address, routed.operation_id)
    if fault is not None:
        return Refused(routed, fault)
    if snapshot.suspended(identity.consumer_id, call.at_us):
        detail = "The provider has suspended this consumer, and told its members why: no call is let through."
        return Refused(routed, Fault(403, "consumer-suspended", "Suspended", detail, "suspension"))
    if snapshot.unpaid(identity.consumer_id, call.at_us):
        detail = "Paused: an invoice of this consumer is overdue. Its calls go on as soon as it is paid."
        return Refused(routed, Fault(403, "payment-overdue", "Paused until an invoice is paid", detail, "payment"))
    at = (identified.environment, identity.kind, call.at_us)
    access = snapshot.access(identity.application_id, routed.operation_id, *at)
    if access is None and snapshot.paused(identity.application_id, routed.operation_id, *at):
        detail = "The subscription that covers this operation is paused. It goes on when its holder says so."
        return Refused(routed, Fault(403, "subscription-paused", "Paused", detail, "pause"))
    if access is None:
        detail = "The credential is good, but no active subscription covers this operation."
        return Refused(routed, Fault(403, "no-subscription", "Not part of a plan", detail, "access"))
    admitted = Admitted(routed, access)
    fault = credentials.not_taken(identified.shown.presented, identity, access.rules)
    if fault is None:
        fault = _not_covered(snapshot, admitted)
    return admitted if fault is None else Refused(admitted, fault)


def _not_covered(snapshot: Snapshot, admitted: Admitted) -> Fault | None:
    """Why a call that a subscription covers is refused all the same, where it is."""
    identity, place, call = admitted.identified.identity, admitted.place, admitted.call
    if place.match.other_case and "other case" not in place.route.forwarding.lets_through:
        for other in place.match.other_case:
            at = (admitted.environment, identity.kind, call.at_us)
            if snapshot.access(identity.application_id, other, *at) is None:
                detail = "In another case this path is another operation, which no active subscription covers."
                return Fault(403, "path-other-case", "Not part of a plan", detail, "access")
    scopes = admitted.access.scopes
    if identity.scopes is not None and not identity.scopes & scopes:
        needed = " or ".join(sorted(scopes))
        return Fault(403, "scope-missing", "Not in the token's scope", f"The token needs the scope {needed}.", "access")
    no_sandbox = identity.environment == "sandbox" and not place.route.sandbox_url
    if no_sandbox and snapshot.example(admitted.routed.operation_id, "sandbox") is None:
        detail = f"{place.route.name} has no sandbox. Call it with a live credential."
        return Fault(403, "wrong-environment", "No sandbox", detail, "access")
    most = place.route.forwarding.most_body_bytes
    if _announced(call.headers) > most:
        detail = f"{place.route.name} takes bodies of up to {most:,} bytes."
        return Fault(413, "body-too-large", "Body too large", detail, "body")
    return None


def after_trial(snapshot: Snapshot, admitted: Admitted) -> Admitted | Refused:
    """The call under what follows a trial whose units are used; refused where nothing does."""
    identity = admitted.identified.identity
    following = snapshot.after(admitted.access, admitted.environment, identity.kind, admitted.call.at_us)
    if following is None:
        detail = "The units of this trial are used, and the subscription has ended with them."
        return Refused(admitted, Fault(403, "trial-over", "The trial is over", detail, "trial"))
    return admitted._replace(access=following)


def _announced(headers: Headers) -> int:
    """The bytes a call announces; 0 where it does not say."""
    return next((int(v) for k, v in headers if k == b"content-length" and v.isdigit()), 0)
