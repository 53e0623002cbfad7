"""Cross-origin calls from browsers (Fetch standard, CORS): preflights, and the fields on replies."""

from __future__ import annotations

from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.snapshot import Place

_EXPOSED = (
    b"ratelimit, ratelimit-policy, retry-after, x-ratelimit-limit, x-ratelimit-remaining, x-ratelimit-reset, "
    b"deprecation, sunset, call-id"
)
# The portal shows all of an answer, as a developer's own program would see it.
_ALL_EXPOSED = b"*"


def origin_of(headers: Headers) -> bytes | None:
    """The page's origin, where a browser names one."""
    return next((v for k, v in headers if k == b"origin"), None)


def allowed(place: Place, origin: bytes | None) -> bytes | None:
    """The origin to allow on replies: of a portal, where calls are tried, or one that the version's owner allows."""
    origins = place.route.forwarding.cors_origins
    if origin is None:
        return None
    if _is_portal(place, origin):
        return origin
    if "*" in origins:
        return b"*"
    return origin if origin.decode("latin-1") in origins else None


def answered_here(place: Place, headers: Headers) -> bool:
    """Whether we say which pages may read the answer to a call, and not its back end."""
    origin = origin_of(headers)
    return bool(place.route.forwarding.cors_origins) or (origin is not None and _is_portal(place, origin))


def on_reply(place: Place | None, headers: Headers) -> Headers:
    """The fields of a reply to a page of an allowed origin."""
    if place is None or not answered_here(place, headers):
        return []
    origin = allowed(place, origin_of(headers))
    fields: Headers = [(b"vary", b"Origin")]
    if origin is not None:
        exposed = _ALL_EXPOSED if _is_portal(place, origin) else _EXPOSED
        fields += [(b"access-control-allow-origin", origin), (b"access-control-expose-headers", exposed)]
    return fields


def preflight(place: Place, headers: Headers) -> Headers | None:
    """The fields that answer a preflight; None where the call is none. Nothing of it is counted."""
    asked = {k: v for k, v in headers if k.startswith(b"access-control-request-")}
    origin = allowed(place, origin_of(headers))
    if b"access-control-request-method" not in asked or origin is None:
        return None
    fields: Headers = [
        (b"access-control-allow-origin", origin),
        (b"access-control-allow-methods", ", ".join(methods(place)).encode()),
        (b"access-control-max-age", b"600"),
        (b"vary", b"Origin, Access-Control-Request-Method, Access-Control-Request-Headers"),
    ]
    wanted = asked.get(b"access-control-request-headers")
    if wanted:
        fields.append((b"access-control-allow-headers", wanted))
    return fields


def _is_portal(place: Place, origin: bytes) -> bool:
    return origin.decode("latin-1") in place.route.forwarding.portal_origins


def methods(place: Place) -> tuple[str, ...]:
    """What a path answers: HEAD comes with GET, OPTIONS always."""
    known = dict.fromkeys(place.match.methods)
    if "GET" in known:
        known["HEAD"] = None
    known["OPTIONS"] = None
    return tuple(known)
