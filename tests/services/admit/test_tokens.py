"""Tokens of the token endpoint: who gets which, for how long, signed by what."""

from __future__ import annotations

import json
from dataclasses import replace
from datetime import timedelta

import pytest
from joserfc import jwt
from joserfc.jwk import ECKey, KeySet
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotSignedIn
from calm_tariff.services.admit import applications, credentials, tokens
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose import products
from calm_tariff.services.compose.apis import operations
from calm_tariff.services.compose.apis.operations import OperationTyped
from calm_tariff.services.compose.products import CredentialsTyped
from calm_tariff.services.serve import gateway_feed
from calm_tariff.store.admit.tokens import SigningKey
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office


@pytest.fixture
def client(office: Office) -> tuple[str, str]:
    """A product that takes tokens, and the id and secret of Ferries' application."""
    product = products.one(office.manager, office.product)
    products.set_credentials(office.manager, product.id, product.edition, CredentialsTyped(("key", "client")))
    own = office.acting(office.consumers[0])
    made = credentials.make_key(own, office.consumers[0].application, "server", kind="secret")
    (application,) = applications.own(own)
    return application.client_id, made.secret


def claims(office: Office, token: str) -> dict:
    keys = KeySet.import_key_set(tokens.key_set(office.ctx))
    return jwt.decode(token, keys, algorithms=["ES256"]).claims


def test_a_token_says_who_may_what_for_a_quarter_of_an_hour(office: Office, client) -> None:
    issued = tokens.issue(office.ctx, *client, "")
    said = claims(office, issued.access_token)
    at = int(START.timestamp())
    assert (said["iat"], said["exp"], issued.expires_in) == (at, at + 900, 900)
    assert (said["sub"], said["aud"], said["env"], said["scope"]) == (
        client[0],
        "calm-tariff-gateway",
        "live",
        "ungrouped",
    )
    assert client[1] not in json.dumps(said)
    kinds = {c.kind: c for c in gateway_feed.read_feed(office.ctx).credentials if c.key_id == said["key"]}
    assert set(kinds) == {"secret"}


def test_a_secret_used_from_a_new_place_is_on_the_record_once(office: Office, client) -> None:
    for address in ("192.0.2.1", "192.0.2.1", "198.51.100.7", "192.0.2.1"):
        tokens.issue(office.ctx, *client, "", address)
    found = auditing.entries(office.manager, PageQuery("new place", rows=20)).rows
    assert [e.why for e in found] == ["from 198.51.100.7", "from 192.0.2.1"]
    assert found[0].actor == f"client {client[0]}" and client[1] not in f"{found}"
    with pytest.raises(NotSignedIn):
        tokens.issue(office.ctx, client[0], "wrong", "", "203.0.113.9")
    assert len(auditing.entries(office.manager, PageQuery("new place", rows=20)).rows) == 2


def test_scopes_are_the_groups_of_what_the_plans_sell(office: Office, client) -> None:
    for name, group in (("GET /stations", "Harbour Walls"), ("GET /stations/{id}", "Forecasts & tides")):
        method, path = name.split(" ")
        operations.save(office.manager, office.operations[name], OperationTyped(method, path, groups=[group]))
    issued = tokens.issue(office.ctx, *client, "")
    assert issued.scope == "forecasts-tides harbour-walls ungrouped"
    assert tokens.issue(office.ctx, *client, "harbour-walls").scope == "harbour-walls"
    with pytest.raises(Invalid, match="scope: moon, sun is not part of a plan"):
        tokens.issue(office.ctx, *client, "sun harbour-walls moon")


def test_wrong_ended_and_foreign_secrets_get_no_token(office: Office, client) -> None:
    other = office.consumers[1]
    theirs = credentials.make_key(office.acting(other), other.application, "", kind="secret")
    key = office.consumers[0].secret
    for secret in ("ls_live_wrong", theirs.secret, key):  # an API key is no secret of the client id
        with pytest.raises(NotSignedIn):
            tokens.issue(office.ctx, client[0], secret, "")
    own = office.acting(office.consumers[0])
    timed = credentials.make_key(
        own,
        office.consumers[0].application,
        "",
        kind="secret",
        starts_at=START + timedelta(hours=1),
        expires_at=START + timedelta(hours=2),
    )
    for hours, good in ((0, False), (1, True), (2, False)):
        at = office.at(START + timedelta(hours=hours))
        if good:
            assert tokens.issue(at, client[0], timed.secret, "").access_token
        else:
            with pytest.raises(NotSignedIn, match="not good at this time"):
                tokens.issue(at, client[0], timed.secret, "")
    credentials.revoke_key(own, next(k.id for k in applications.own(own)[0].keys if k.kind == "secret"))
    with pytest.raises(NotSignedIn):
        tokens.issue(office.ctx, *client, "")


def test_a_product_that_takes_no_tokens_gives_none(office: Office, client) -> None:
    product = products.one(office.manager, office.product)
    products.set_credentials(office.manager, product.id, product.edition, CredentialsTyped(("key",)))
    with pytest.raises(NotAllowed, match="no plan of this application takes tokens"):
        tokens.issue(office.ctx, *client, "")


def test_a_revoked_token_is_told_to_gateways_until_it_would_have_ended(office: Office, client) -> None:
    issued = tokens.issue(office.ctx, *client, "")
    jti = claims(office, issued.access_token)["jti"]
    before = gateway_feed.read_feed(office.ctx)
    assert jti not in before.revoked_tokens
    other = office.consumers[1]
    theirs = credentials.make_key(office.acting(other), other.application, "", kind="secret")
    (application,) = applications.own(office.acting(other))
    with pytest.raises(NotAllowed, match="another application"):
        tokens.revoke(office.ctx, application.client_id, theirs.secret, issued.access_token)
    tokens.revoke(office.ctx, *client, "no.token.ofours")  # is no error
    assert jti not in gateway_feed.read_feed(office.ctx).revoked_tokens
    for _ in range(2):
        tokens.revoke(office.ctx, *client, issued.access_token)
    after = gateway_feed.read_feed(office.ctx)
    assert jti in after.revoked_tokens and after.number > before.number
    assert gateway_feed.read_feed(office.at(START + timedelta(minutes=15))).revoked_tokens == frozenset()


def test_a_new_signing_key_signs_and_the_old_one_still_verifies(office: Office, client) -> None:
    old = tokens.issue(office.ctx, *client, "").access_token
    office.clock.forward(seconds=5)
    with pytest.raises(NotAllowed):
        tokens.rotate(office.manager)
    kid = tokens.rotate(office.ctx.acting(Actor("Tomas", frozenset({"operations"}))))
    new = tokens.issue(office.ctx, *client, "").access_token
    assert claims(office, old) and claims(office, new)
    published = tokens.key_set(office.ctx)["keys"]
    assert published[0]["kid"] == kid and len(published) == 2
    assert all("d" not in k and k["use"] == "sig" for k in published)
    for raw in gateway_feed.read_feed(office.ctx).signing_keys:
        assert "d" not in ECKey.import_key(json.loads(raw)).as_dict(private=False)
        assert '"d"' not in raw


def test_a_signing_key_is_sealed_with_a_secret_that_the_database_does_not_hold(office: Office, client) -> None:
    first = tokens.issue(office.ctx, *client, "").access_token
    with office.ctx.transaction() as session:
        (key,) = session.scalars(select(SigningKey))
        assert len(key.sealed.split(".")) == 5 and '"d"' not in key.public
    # With another secret it signs no more; its tokens stay good.
    other = replace(office.ctx, signing_secret="another secret")
    second = tokens.issue(other, *client, "").access_token
    kids = [k["kid"] for k in tokens.key_set(office.ctx)["keys"]]
    assert len(kids) == 2 and claims(office, first) and claims(office, second)
    with pytest.raises(Conflict, match="no CALM_SIGNING_SECRET"):
        tokens.issue(replace(office.ctx, signing_secret=""), *client, "")


@pytest.mark.parametrize(
    ("group", "scope"),
    [("Sea state", "sea-state"), ("Höhen", "hohen"), ("潮位", "chao-wei"), ("", "ungrouped"), ("– –", "ungrouped")],
)
def test_a_group_is_a_scope_whatever_script_it_is_written_in(group: str, scope: str) -> None:
    """One that came to nothing would be opened by whoever may call what is in no group."""
    assert tokens.scope_name(group) == scope
