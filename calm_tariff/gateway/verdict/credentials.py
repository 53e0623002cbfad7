"""Who calls: the credential a request carries, and what is wrong with one that is not good.

A key comes in a header or a query parameter that a product names, or as a bearer token; an application's id
and secret by HTTP Basic (RFC 7617); a signed token as a bearer token (RFC 6750).
"""

from __future__ import annotations

import base64
import binascii
import hashlib
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Any, NamedTuple
from urllib.parse import unquote_plus

from calm_tariff.core.bounds import Bounds
from calm_tariff.core.keys import is_mistyped
from calm_tariff.core.meters import CREDENTIALS
from calm_tariff.core.refusals import Reason
from calm_tariff.formats.certificates import handed_over
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.services.serve.gateway_feed import Credential, ProductRules
from calm_tariff.services.serve.grants import STRANGER, TRYING

LONGEST = 8192


class Presented(NamedTuple):
    """A credential as it came. `at` is a header's or query parameter's name, or `bearer`, `basic` or `certificate`."""

    kind: str
    text: str
    at: str


class Identity(NamedTuple):
    """Whose call it is. `key_id` is None for a token of an outside issuer; `scopes` and `bounds` are None where none
    bound it. Of the kind "none" is whoever calls without a credential, of nobody's application."""

    kind: str
    application_id: int
    consumer_id: int
    environment: str
    key_id: int | None = None
    scopes: frozenset[str] | None = None
    claims: Mapping[str, Any] = MappingProxyType({})
    bounds: Bounds | None = None


@dataclass(frozen=True, slots=True)
class Fault:
    """Why a call is refused: an HTTP status, a code for programs, words for people."""

    status: int
    code: str
    title: str
    detail: str
    by: Reason = "credential"


# By this field a call without a credential asks for the sandbox: one that has forgotten its key must not take the
# sandbox's answers for true ones.
ASKS_FOR = b"calm-environment"
WITHOUT = Presented("none", "", "none")
NONE = Fault(
    401,
    "credential-missing",
    "No credential",
    "Send the key in the header its product names (mostly X-API-Key), or a token as Authorization: Bearer.",
)


def presented(snapshot: Snapshot, headers: Headers, query: bytes, certified: bool = False) -> Presented | Fault:
    """The credential a request carries. A key in a header goes before Authorization, that before the query, and all of
    these before a client certificate, which counts where its field is a proxy's word."""
    authorization = None
    for name, value in headers:
        if name in snapshot.key_headers:
            return Presented("key", value.decode("latin-1").strip(), name.decode())
        if name == b"authorization":
            authorization = value
    if authorization is not None:
        return _authorization(authorization)
    if query and snapshot.key_queries:
        for pair in query.split(b"&"):
            name, _, value = pair.partition(b"=")
            parameter = unquote_plus(name.decode("latin-1"))
            if parameter in snapshot.key_queries and value:
                return Presented("key", unquote_plus(value.decode("latin-1")), f"?{parameter}")
    return (_certificate(headers) if certified else None) or NONE


def stranger(headers: Headers) -> Identity:
    """Whoever calls without a credential: live, unless it asks for the sandbox."""
    asked = next((value for name, value in headers if name == ASKS_FOR), b"")
    if asked.strip().lower() == b"sandbox":
        return Identity(WITHOUT.kind, TRYING, 0, "sandbox")
    return Identity(WITHOUT.kind, STRANGER, 0, "live")


def _certificate(headers: Headers) -> Presented | Fault | None:
    fields = [value for name, value in headers if name == b"client-cert"]
    if not fields:
        return None
    fingerprint = handed_over(fields[0]) if len(fields) == 1 else None
    if fingerprint is None:
        return _malformed("The Client-Cert field is no certificate (RFC 9440).")
    return Presented("certificate", fingerprint, "certificate")


def by_certificate(snapshot: Snapshot, fingerprint: str, now_us: int) -> Identity | Fault:
    """Whose client certificate it is."""
    found = snapshot.credentials.get(fingerprint)
    if found is None or found.kind != "certificate":
        return Fault(401, "credential-unknown", "Unknown credential", "This certificate is not known here.")
    return fault_of(found, now_us, "certificate") or _identity(found, "certificate")


def _authorization(value: bytes) -> Presented | Fault:
    scheme, _, rest = value.decode("latin-1").strip().partition(" ")
    text = rest.strip()
    if len(text) > LONGEST or not text:
        return _malformed(f"The Authorization field has {'no' if not text else 'too long a'} credential.")
    if scheme.lower() == "basic":
        return Presented("basic", text, "basic")
    if scheme.lower() != "bearer":
        return _malformed(f"Authorization: {scheme[:20]} is not taken here; Basic and Bearer are.")
    return Presented("token" if text.count(".") == 2 else "key", text, "bearer")


def by_key(snapshot: Snapshot, text: str, now_us: int) -> Identity | Fault:
    """Whose API key it is."""
    if is_mistyped(text):
        return _mistyped("key")
    found = snapshot.credentials.get(hashlib.sha256(text.encode("latin-1", "replace")).hexdigest())
    if found is None or found.kind != "key":
        return Fault(401, "credential-unknown", "Unknown credential", "This key is not known here.")
    return fault_of(found, now_us, "key") or _identity(found, "key")


def by_basic(snapshot: Snapshot, text: str, now_us: int) -> Identity | Fault:
    """Whose application id and secret these are."""
    try:
        client, colon, secret = base64.b64decode(text, validate=True).decode().partition(":")
    except (binascii.Error, UnicodeDecodeError):
        return _malformed("Basic takes the application's id and secret as base64 of id:secret.")
    if not colon:
        return _malformed("Basic takes the application's id and secret as base64 of id:secret.")
    if is_mistyped(secret):
        return _mistyped("secret")
    found = snapshot.credentials.get(hashlib.sha256(secret.encode()).hexdigest())
    caller = snapshot.clients.get(client)
    if found is None or found.kind != "secret" or caller is None or caller.application_id != found.application_id:
        return Fault(401, "credential-unknown", "Unknown credential", "No application has this id and this secret.")
    return fault_of(found, now_us, "secret") or _identity(found, "basic")


def _mistyped(what: str) -> Fault:
    """Something meant as one of ours whose checksum does not fit."""
    detail = f"This is no {what} as it stands: its checksum does not fit. Copy it whole."
    return Fault(401, "credential-mistyped", "Mistyped credential", detail)


def fault_of(found: Credential, now_us: int, what: str) -> Fault | None:
    """Why a known key or secret is not good now; None where it is."""
    if found.state == "revoked":
        return Fault(401, "credential-revoked", "Revoked credential", f"This {what} was revoked. Make a new one.")
    if found.starts_us is not None and now_us < found.starts_us:
        return Fault(401, "credential-not-yet-valid", "Credential not yet valid", f"This {what} is good only later.")
    if found.state == "expired" or (found.expires_us is not None and now_us >= found.expires_us):
        return Fault(401, "credential-expired", "Expired credential", f"This {what} has expired. Make a new one.")
    return None


def not_taken(shown: Presented, identity: Identity, rules: ProductRules) -> Fault | None:
    """Why a product does not take a good credential in this way; None where it does."""
    if identity.kind == WITHOUT.kind:
        return None
    if identity.kind not in rules.kinds:
        taken = " or ".join(_WORDS[kind] for kind in CREDENTIALS if kind in rules.kinds)
        return Fault(
            401,
            "credential-kind",
            "Not this kind of credential",
            f"The credential is good, but this product takes {taken}.",
            "access",
        )
    allowed = {rules.key_header, "bearer", f"?{rules.key_query}" if rules.key_query else ""}
    if identity.kind == "key" and shown.at not in allowed:
        place = rules.key_header + (f" or the query parameter {rules.key_query}" if rules.key_query else "")
        return Fault(
            401,
            "credential-place",
            "Not in this place",
            f"The key is good, but this product takes it in {place}.",
            "access",
        )
    return None


def out_of_bounds(identity: Identity, address: str, operation_id: int) -> Fault | None:
    """Why a good credential is not taken from an address or for an operation; None where it is."""
    if identity.bounds is None:
        return None
    if not identity.bounds.admits_address(address):
        detail = f"The credential is good, but its holder lets it come from certain addresses, not from {address}."
        return Fault(403, "credential-address", "Not from this address", detail, "bounds")
    if not identity.bounds.admits_operation(operation_id):
        detail = "The credential is good, but its holder has narrowed it to other operations."
        return Fault(403, "credential-operation", "Not for this operation", detail, "bounds")
    return None


def without_keys(query: bytes, parameters: Collection[str]) -> bytes:
    """A query without what any product takes as a key, however often it comes: what a back end may see."""
    return b"&".join(
        pair for pair in query.split(b"&") if unquote_plus(pair.partition(b"=")[0].decode("latin-1")) not in parameters
    )


_WORDS = {
    "key": "an API key",
    "basic": "the application's id and secret (Basic)",
    "client": "a token of the token endpoint",
    "token": "a signed token of a trusted issuer",
    "certificate": "a client certificate",
}


def _identity(found: Credential, kind: str) -> Identity:
    return Identity(
        kind,
        found.application_id,
        found.consumer_id,
        found.environment,
        key_id=found.key_id,
        bounds=found.bounds,
    )


def _malformed(detail: str) -> Fault:
    return Fault(401, "credential-malformed", "Malformed credential", detail)
