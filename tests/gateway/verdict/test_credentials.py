"""Who calls: every kind of credential, and what is said of one that is not good."""

from __future__ import annotations

import base64
import json
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import httpx
import pytest

from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.services.admit import applications, credentials, key_bounds, overrides, tokens
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.compose import issuers, products
from calm_tariff.services.compose.apis import operations
from calm_tariff.services.compose.issuers import IssuerTyped
from calm_tariff.services.compose.products import CredentialsTyped
from tests.gateway.ends import said
from tests.gateway.running import Running, running
from tests.office import terms
from tests.processes import wait_for

__all__ = ["running"]
ALL = ("key", "basic", "client", "token")


def take(running: Running, **typed) -> None:
    """Change how callers of the office's product prove who they are, and wait until the gateway follows."""
    office = running.office
    edition = products.one(office.manager, office.product).edition
    products.set_credentials(office.manager, office.product, edition, CredentialsTyped(**typed))


def basic(client: str, secret: str) -> str:
    return "Basic " + base64.b64encode(f"{client}:{secret}".encode()).decode()


def seen_before_it_ends(running: Running, make: Callable[..., str]) -> tuple[str, datetime]:
    """A key that a call was served by, and when it ends: as soon as this machine can see both."""
    seconds = 4
    while True:
        ends = datetime.now(UTC) + timedelta(seconds=seconds)
        short = make(expires_at=ends)
        wait_for(lambda key=short: said(running.get(secret=key)) in ((200, ""), (401, "credential-expired")))
        if said(running.get(secret=short)) == (200, ""):
            return short, ends
        seconds *= 3


def test_keys_come_where_the_product_says_and_have_their_times(running: Running) -> None:
    own = running.office.acting(running.caller)
    now = datetime.now(UTC)

    def make(**times: datetime) -> str:
        return credentials.make_key(own, running.caller.application, "", **times).secret

    early = make(starts_at=now + timedelta(hours=1))
    revoked = credentials.make_key(own, running.caller.application, "")
    credentials.revoke_key(own, revoked.key.id)
    short, ends = seen_before_it_ends(running, make)
    wait_for(lambda: said(running.get(secret=revoked.secret)) == (401, "credential-revoked"))
    assert said(running.get(secret=early)) == (401, "credential-not-yet-valid")
    # Asked only when it has expired: asking all the while would spend the month's 100 calls on a fast machine.
    time.sleep(max(0.0, (ends - datetime.now(UTC)).total_seconds()))
    wait_for(lambda: said(running.get(secret=short)) == (401, "credential-expired"))
    with pytest.raises(Invalid, match="expires_at"):
        make(expires_at=now - timedelta(days=1))

    secret, path = running.caller.secret, "/tides/v1/stations/lm-01"
    assert said(running.get(f"{path}?key={secret}", secret=None)) == (401, "credential-missing")
    take(running, key_header="X-Tide-Key", key_query="key", older_fields=True)
    answer = wait_for(lambda: (r := running.get(f"{path}?key={secret}&days=2", secret=None)).status_code == 200 and r)
    # Stripped before the back end sees it, in the query as in a header; the older fields are there.
    seen = httpx.get(f"{running.processes.standins}/asked").json()
    assert secret not in str(seen)
    assert int(answer.headers["X-RateLimit-Limit"]) in (20, 100)
    assert {"x-ratelimit-remaining", "x-ratelimit-reset"} <= set(answer.headers)
    assert said(running.get(secret=None, **{"X-Tide-Key": secret})) == (200, "")
    assert secret not in str(httpx.get(f"{running.processes.standins}/asked").json())
    assert said(running.get()) == (401, "credential-missing")  # X-API-Key is no product's any more
    with pytest.raises(Invalid, match="key_header"):
        take(running, key_header="Host")


def test_id_and_secret_and_tokens_of_the_token_endpoint(running: Running) -> None:
    office = running.office
    take(running, kinds=ALL)
    running.processes.start("web")
    own = office.acting(running.caller)
    client = next(a for a in applications.own(own) if a.id == running.caller.application).client_id
    made = credentials.make_key(own, running.caller.application, "", kind="secret")
    wait_for(lambda: said(running.get(secret=None, Authorization=basic(client, made.secret))) == (200, ""))
    mistyped = made.secret[:-1] + ("0" if made.secret[-1] != "0" else "1")
    for text in (basic(client, mistyped), basic(client, made.secret[:-3])):
        assert said(running.get(secret=None, Authorization=text)) == (401, "credential-mistyped")
    assert said(running.get(secret=running.caller.secret[:-1])) == (401, "credential-mistyped")
    for wrong in (basic(client, "ls_live_wrong"), basic("app-other", made.secret)):
        assert said(running.get(secret=None, Authorization=wrong)) == (401, "credential-unknown")
    for bad in ("Basic !!!", "Basic " + base64.b64encode(b"nocolon").decode(), "Digest x", "Bearer " + "a" * 9000):
        assert said(running.get(secret=None, Authorization=bad)) == (401, "credential-malformed")
    assert said(running.get(secret=made.secret)) == (401, "credential-unknown")  # a secret alone is no key

    oauth = f"{running.processes.web}/oauth2"
    form = {"grant_type": "client_credentials"}
    answer = httpx.post(f"{oauth}/token", data=form, auth=(client, made.secret)).json()
    assert (answer["token_type"], answer["expires_in"], answer["scope"]) == ("Bearer", 900, "ungrouped")
    bearer = {"Authorization": f"Bearer {answer['access_token']}"}
    wait_for(lambda: said(running.get(secret=None, **bearer)) == (200, ""))
    for changed, error in (
        ({"client_secret": "no"}, "invalid_client"),
        ({"grant_type": "password"}, "unsupported_grant_type"),
        ({"scope": "ungrouped more"}, "invalid_scope"),
    ):
        typed = {"client_id": client, "client_secret": made.secret, **form, **changed}
        refused = httpx.post(f"{oauth}/token", data=typed)
        assert refused.json()["error"] == error
    about = httpx.get(f"{running.processes.web}/.well-known/oauth-authorization-server").json()
    assert about["token_endpoint"] == f"{oauth}/token"
    assert httpx.get(f"{oauth}/jwks.json").json()["keys"][0]["crv"] == "P-256"

    # Signed by another key; changed on its way; revoked; and when its secret is revoked, all of its tokens.
    head, body, signature = answer["access_token"].split(".")
    claims = json.loads(base64.urlsafe_b64decode(body + "=="))
    longer = base64.urlsafe_b64encode(json.dumps({**claims, "exp": claims["exp"] + 9999}).encode()).decode().strip("=")
    for token in (f"{head}.{longer}.{signature}", f"{head}.{body}.{signature[:-4]}AAAA"):
        assert said(running.get(secret=None, Authorization=f"Bearer {token}")) == (401, "token-signature")
    second = httpx.post(f"{oauth}/token", data=form, auth=(client, made.secret)).json()["access_token"]
    httpx.post(f"{oauth}/revoke", data={"token": answer["access_token"]}, auth=(client, made.secret)).raise_for_status()
    wait_for(lambda: said(running.get(secret=None, **bearer)) == (401, "token-revoked"))
    other = {"Authorization": f"Bearer {second}"}
    assert said(running.get(secret=None, **other)) == (200, "")
    secret = running.processes.settings.signing_secret
    tokens.rotate(
        replace(office.ctx, signing_secret=secret, actor=replace(office.manager.actor, roles=frozenset({"operations"})))
    )
    credentials.revoke_key(own, made.key.id)
    wait_for(lambda: said(running.get(secret=None, **other)) == (401, "credential-revoked"))
    assert said(running.get(secret=None, **other))[0] == 401
    assert "invalid_token" not in running.get(secret=None).headers["www-authenticate"]


def test_tokens_of_an_outside_issuer(running: Running) -> None:
    office, standins = running.office, running.processes.standins
    take(running, kinds=["token"])
    own = office.acting(running.caller)
    client = next(a for a in applications.own(own) if a.id == running.caller.application).client_id
    typed = IssuerTyped(
        name="Harbour identity",
        issuer=f"{standins}/issuer",
        jwks_url=f"{standins}/issuer/jwks.json",
        audience="larkmouth",
        algorithms=("ES256", "RS256"),
        claim="app",
    )
    made = issuers.add(office.manager, typed)
    with pytest.raises(Conflict):
        issuers.add(office.manager, typed)

    def token(algorithm: str = "ES256", seconds: int = 300, **claims) -> str:
        given = {"aud": "larkmouth", "app": client, **claims}
        asked = {"claims": given, "algorithm": algorithm, "seconds": seconds}
        return httpx.post(f"{standins}/issuer/tokens", json=asked).json()["token"]

    def by(text: str) -> tuple[int, str]:
        return said(running.get(secret=None, Authorization=f"Bearer {text}"))

    wait_for(lambda: by(token()) == (200, ""))
    assert by(token("RS256")) == (200, "")
    assert said(running.get()) == (401, "credential-kind")  # a good key, but this product takes tokens
    old = token()
    table = {
        "token-audience": token(aud="elsewhere"),
        "token-expired": token(seconds=-5),
        "token-not-yet-valid": token(nbf=2_000_000_000),
        "token-application": token(app="app-nobody"),
        "token-issuer": token(iss="https://other.example"),
        "token-malformed": "a.b.c",
    }
    for code, text in table.items():
        assert by(text) == (401, code)
    # No signature, and the public key used as a shared secret: the algorithm is not the token's to choose.
    head, body, _ = old.split(".")
    for algorithm in ("none", "HS256"):
        forged = base64.urlsafe_b64encode(json.dumps({"alg": algorithm, "kid": "ec-1"}).encode()).decode().strip("=")
        assert by(f"{forged}.{body}.AAAA") == (401, "token-algorithm")
    assert by(f"{head}.{body}.AAAA") == (401, "token-signature")
    # Each ship, which the token names, has a count of its own.
    ship = {**terms()["limits"][0], "name": "By ship", "counted_per": "claim:ship", "per_seconds": 3600, "burst": 2}
    until = datetime.now(UTC).date() + timedelta(days=3)
    overrides.make(office.manager, running.caller.subscription, OverrideTyped(ship, "Fair to every ship.", until))
    wait_for(lambda: "by ship" in running.get(secret=None, Authorization=f"Bearer {old}").headers["RateLimit-Policy"])
    tern = [by(token(ship="Tern")) for _ in range(3)]
    assert tern == [(200, ""), (200, ""), (429, "limit-reached")]
    assert by(token(ship="Gull")) == (200, "")
    # The issuer rotates: new tokens verify, those of the old key no more.
    httpx.post(f"{standins}/issuer/rotate").raise_for_status()
    wait_for(lambda: by(token(ship="Skua")) == (200, ""))
    assert by(old) == (401, "token-signature")
    issuers.save(office.manager, made.id, made.edition, replace(typed, trusted=False))
    wait_for(lambda: by(token(ship="Auk")) == (401, "token-issuer"))


def test_scopes_are_the_operation_groups_of_the_plan(running: Running) -> None:
    office = running.office
    take(running, kinds=["client"])
    tides = [office.operations["GET /stations/{id}/tides"]]
    operations.put_into_group(office.manager, office.api, tides, "Tide tables", True)
    running.processes.start("web")
    own = office.acting(running.caller)
    client = next(a for a in applications.own(own) if a.id == running.caller.application).client_id
    secret = credentials.make_key(own, running.caller.application, "", kind="secret").secret
    form = {"grant_type": "client_credentials", "scope": "tide-tables"}
    narrow = httpx.post(f"{running.processes.web}/oauth2/token", data=form, auth=(client, secret)).json()
    assert narrow["scope"] == "tide-tables"
    bearer = {"Authorization": f"Bearer {narrow['access_token']}"}
    wait_for(lambda: running.get("/tides/v1/stations/lm-01/tides", secret=None, **bearer).status_code == 200)
    refused = running.get("/tides/v1/stations", secret=None, **bearer)
    assert said(refused) == (403, "scope-missing")
    assert refused.headers["www-authenticate"].endswith('error="insufficient_scope", scope="ungrouped"')


def test_an_override_takes_the_plans_place_until_it_ends(running: Running) -> None:
    office = running.office
    limit = {**terms()["limits"][0], "calls": 1, "per_seconds": 3600, "burst": 2}
    until = datetime.now(UTC).date() + timedelta(days=3)
    made = overrides.make(office.manager, running.caller.subscription, OverrideTyped(limit, "A runaway script.", until))
    assert (made.state, made.instead_of) == ("in force", "10 calls a second, up to 20 at once, for each key")
    other = office.consumers[1].secret
    wait_for(lambda: '"rate";q=2;' in running.get("/tides/v1/stations").headers["RateLimit-Policy"])
    statuses = [running.get("/tides/v1/stations").status_code for _ in range(3)]
    assert statuses[-1] == 429
    assert '"rate";q=20' in running.get("/tides/v1/stations", secret=other).headers["RateLimit-Policy"]
    with pytest.raises(Conflict, match="lift it first"):
        overrides.make(office.manager, running.caller.subscription, OverrideTyped(limit, "Again.", until))
    with pytest.raises(Invalid, match="reason"):
        overrides.make(office.manager, running.caller.subscription, OverrideTyped(limit, " ", until))
    assert overrides.lift(office.manager, made.id).state == "lifted"
    wait_for(lambda: running.get("/tides/v1/stations").status_code == 200)
    assert [o.reason for o in overrides.of_consumer(office.manager, running.caller.member.consumer_id)] == [
        "A runaway script."
    ]


def test_a_narrowed_key_comes_from_its_addresses_and_for_its_operations_alone(running: Running) -> None:
    own, office = running.office.acting(running.caller), running.office
    take(running, kinds=("key", "basic", "client"))
    made = credentials.make_key(own, running.caller.application, "narrow")
    secret = credentials.make_key(own, running.caller.application, "narrow", kind="secret")
    tide = office.operations["GET /stations/{id}"]
    client = next(a for a in applications.own(own) if a.id == running.caller.application).client_id
    ways = {"key": {"secret": made.secret}, "basic": {"secret": None, "Authorization": basic(client, secret.secret)}}
    for way in ways.values():
        wait_for(lambda way=way: said(running.get(**way)) == (200, ""))

    def narrow(addresses: list[str], operations: list[int]) -> None:
        for key in (made.key.id, secret.key.id):
            key_bounds.narrow(own, key, addresses, operations)

    for addresses, only, answer in (
        (["192.0.2.0/24"], [], (403, "credential-address")),
        (["127.0.0.1", "192.0.2.0/24"], [], (200, "")),
        ([], [office.operations["GET /stations"]], (403, "credential-operation")),
        (["127.0.0.0/8"], [tide], (200, "")),
        ([], [], (200, "")),
    ):
        narrow(addresses, only)
        for way in ways.values():
            wait_for(lambda way=way, answer=answer: said(running.get(**way)) == answer)
    assert said(running.get()) == (200, "")  # the others are as they were


def test_a_token_is_narrowed_as_its_secret_is(running: Running) -> None:
    own = running.office.acting(running.caller)
    take(running, kinds=("key", "client"))
    secret = credentials.make_key(own, running.caller.application, "narrow", kind="secret")
    client = next(a for a in applications.own(own) if a.id == running.caller.application).client_id
    running.processes.start("web")
    form = {"grant_type": "client_credentials"}
    given = httpx.post(f"{running.processes.web}/oauth2/token", data=form, auth=(client, secret.secret)).json()
    sent = {"secret": None, "Authorization": f"Bearer {given['access_token']}"}
    wait_for(lambda: said(running.get(**sent)) == (200, ""))
    key_bounds.narrow(own, secret.key.id, ["192.0.2.0/24"], [])
    wait_for(lambda: said(running.get(**sent)) == (403, "credential-address"))
