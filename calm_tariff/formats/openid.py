"""OpenID Connect Core 1.0, as one who relies on a provider: where somebody is sent, and what the provider's answer
says."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, cast
from urllib.parse import urlencode, urlsplit

from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from calm_tariff.core.errors import Invalid
from calm_tariff.formats.json_values import as_list, as_object

ALGORITHMS = ["ES256", "RS256", "PS256", "EdDSA"]
# So far clocks may lie apart, in seconds.
APART = 120
DESCRIBED_AT = "/.well-known/openid-configuration"


@dataclass(frozen=True, slots=True)
class Endpoints:
    """Where a provider is asked, as it says itself (OpenID Connect Discovery 1.0)."""

    authorization: str
    token: str
    keys: str


@dataclass(frozen=True, slots=True)
class Identity:
    """Whom a provider knows: by a name of its own for good, and by a mail address where it has verified one; with all
    that its token claims."""

    subject: str
    email: str
    name: str
    claims: Mapping[str, Any] = field(default_factory=dict, compare=False)


def endpoints(said: Any, issuer: str) -> Endpoints:
    """What a provider's description says. Raises `Invalid` where it is another's, or none."""
    given = as_object(said)
    if given.get("issuer") != issuer:
        raise Invalid("describes itself by another name (issuer) than the one given", "issuer")
    found = [given.get(name) for name in ("authorization_endpoint", "token_endpoint", "jwks_uri")]
    if not all(isinstance(each, str) and urlsplit(each).scheme in ("http", "https") for each in found):
        raise Invalid("does not say where it is asked (OpenID Connect Discovery)", "issuer")
    return Endpoints(*(str(each) for each in found))


def authorization(to: Endpoints, client_id: str, back: str, *, state: str, nonce: str, verifier: str) -> str:
    """Where somebody is sent (section 3.1.2.1; proof key by RFC 7636)."""
    asked = {
        "response_type": "code",
        "scope": "openid email profile",
        "client_id": client_id,
        "redirect_uri": back,
        "state": state,
        "nonce": nonce,
        "code_challenge": challenge(verifier),
        "code_challenge_method": "S256",
    }
    return f"{to.authorization}{'&' if '?' in to.authorization else '?'}{urlencode(asked)}"


def challenge(verifier: str) -> str:
    """What a proof key is shown as beforehand (RFC 7636, section 4.2)."""
    return base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).decode().rstrip("=")


def identity(token: str, keys: Any, *, issuer: str, client_id: str, nonce: str, now: int) -> Identity:
    """Whom an ID token names (section 3.1.3.7), with the provider's keys, at an instant in seconds. Raises `Invalid`
    where anything of it is not as it must be."""
    try:
        known = KeySet.import_key_set(cast(Any, as_object(keys)))
        claims: Mapping[str, Any] = jwt.decode(token, known, algorithms=ALGORITHMS).claims
    except (JoseError, ValueError, TypeError, KeyError) as error:
        raise _bad(f"it is not signed by the provider ({error.__class__.__name__})") from None
    audience = claims.get("aud")
    several = as_list(audience) if isinstance(audience, list) else [audience]
    if claims.get("iss") != issuer:
        raise _bad("another issuer made it")
    if client_id not in several or (len(several) > 1 and claims.get("azp") != client_id):
        raise _bad("it is meant for another client")
    if claims.get("azp") not in (None, client_id):
        raise _bad("it is meant for another client")
    if claims.get("nonce") != nonce:
        raise _bad("it answers another question")
    ends, made = claims.get("exp"), claims.get("iat")
    if not isinstance(ends, int | float) or not isinstance(made, int | float):
        raise _bad("it has no times")
    if ends <= now - APART or made > now + APART:
        raise _bad("it is too old, or of a time to come")
    subject = claims.get("sub")
    if not isinstance(subject, str) or not 1 <= len(subject) <= 255:
        raise _bad("it names nobody")
    verified = claims.get("email_verified") is True and isinstance(claims.get("email"), str)
    name = claims.get("name")
    email = str(claims["email"]) if verified else ""
    return Identity(subject, email, name if isinstance(name, str) else "", dict(claims))


def values_of(claims: Mapping[str, Any], name: str) -> list[str]:
    """The values of a claim that is a text or a list of them; none where it is not there, or is anything else."""
    claim = claims.get(name)
    return [each for each in (claim if isinstance(claim, list) else [claim]) if isinstance(each, str)]


def _bad(why: str) -> Invalid:
    return Invalid(f"the provider's answer is not taken: {why}", "id_token")
