"""What a provider of identities answers is taken only where everything of it is as it must be."""

from __future__ import annotations

from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from joserfc import jwt
from joserfc.jwk import ECKey, OctKey

from calm_tariff.core.errors import Invalid
from calm_tariff.formats import openid
from calm_tariff.formats.openid import Endpoints, Identity

ISSUER, CLIENT, NONCE, NOW = "https://id.example", "portal", "n-1", 1_800_000_000
KEY = ECKey.generate_key("P-256", {"kid": "one", "use": "sig"})
KEYS = {"keys": [KEY.as_dict(private=False)]}
GOOD: dict[str, Any] = {
    "iss": ISSUER,
    "aud": CLIENT,
    "sub": "s-1",
    "nonce": NONCE,
    "iat": NOW - 5,
    "exp": NOW + 300,
    "email": "ana@ferries.example",
    "email_verified": True,
    "name": "Ana Vaga",
}


def token(key: Any = KEY, alg: str = "ES256", **claims: Any) -> str:
    said = {name: value for name, value in {**GOOD, **claims}.items() if value is not None}
    return jwt.encode({"alg": alg, "kid": "one"}, said, key, algorithms=[alg])


def whom(text: str, keys: Any = KEYS) -> Identity:
    return openid.identity(text, keys, issuer=ISSUER, client_id=CLIENT, nonce=NONCE, now=NOW)


def test_whom_a_good_token_names() -> None:
    assert whom(token()) == Identity("s-1", "ana@ferries.example", "Ana Vaga")
    assert whom(token(aud=[CLIENT, "other"], azp=CLIENT)).subject == "s-1"


@pytest.mark.parametrize("verified", [False, None, "true", 1])
def test_an_address_that_is_not_verified_is_none(verified: Any) -> None:
    assert whom(token(email_verified=verified)).email == ""


@pytest.mark.parametrize(
    ("claims", "why"),
    [
        ({"iss": "https://other.example"}, "another issuer"),
        ({"aud": "other"}, "another client"),
        ({"aud": None}, "another client"),
        ({"aud": [CLIENT, "other"]}, "another client"),
        ({"azp": "other"}, "another client"),
        ({"nonce": "n-2"}, "another question"),
        ({"nonce": None}, "another question"),
        ({"exp": NOW - openid.APART}, "too old"),
        ({"iat": NOW + openid.APART + 1}, "a time to come"),
        ({"exp": None}, "no times"),
        ({"sub": None}, "names nobody"),
        ({"sub": ""}, "names nobody"),
        ({"sub": 7}, "names nobody"),
        ({"sub": "s" * 256}, "names nobody"),
    ],
    ids=lambda value: str(value)[:24],
)
def test_a_token_with_one_thing_wrong_is_refused_for_it(claims: dict[str, Any], why: str) -> None:
    with pytest.raises(Invalid, match=why):
        whom(token(**claims))


def test_a_token_that_the_provider_did_not_sign_is_refused() -> None:
    stranger = ECKey.generate_key("P-256", {"kid": "one", "use": "sig"})
    public = OctKey.import_key(b"the public key taken for a shared secret")
    head, said, _ = token().split(".")
    nothing = jwt.encode({"alg": "none"}, GOOD, OctKey.import_key(b"x"), algorithms=["none"])
    for forged in (token(stranger), token(public, "HS256"), f"{head}.{said}.", f"{head}.{said}", nothing, "", "a.b.c"):
        with pytest.raises(Invalid, match="not signed by the provider"):
            whom(forged)
    for keys in ({}, {"keys": []}, {"keys": "x"}, [], None):
        with pytest.raises(Invalid, match="not signed by the provider"):
            whom(token(), keys)


def test_somebody_is_sent_with_a_question_that_the_answer_must_fit() -> None:
    to = Endpoints("https://id.example/auth?tenant=1", "https://id.example/token", "https://id.example/keys")
    url = urlsplit(openid.authorization(to, CLIENT, "https://p.example/signed-in", state="s", nonce="n", verifier="v"))
    asked = {name: value for name, (value,) in parse_qs(url.query).items()}

    assert url.path == "/auth"
    assert asked["tenant"] == "1"
    assert (asked["state"], asked["nonce"], asked["redirect_uri"]) == ("s", "n", "https://p.example/signed-in")
    # The example of RFC 7636, appendix B.
    challenge = openid.challenge("dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk")
    assert challenge == "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"
    assert asked["code_challenge"] == openid.challenge("v") and "v" not in asked.values()


@pytest.mark.parametrize(
    "said",
    [
        {},
        [],
        {"issuer": "https://other.example"},
        {"issuer": ISSUER},
        {"issuer": ISSUER, "authorization_endpoint": "javascript:alert(1)", "token_endpoint": "x", "jwks_uri": "y"},
    ],
    ids=str,
)
def test_a_description_that_is_another_s_or_says_too_little_is_refused(said: Any) -> None:
    with pytest.raises(Invalid):
        openid.endpoints(said, ISSUER)
