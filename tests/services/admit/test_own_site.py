"""Signing up and subscribing at the provider's own site, and documentation that asks for somebody's keys."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest
from joserfc import jwt
from joserfc.jwk import KeySet

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import applications, credentials, on_behalf, personal, tokens
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.on_behalf import ConsumerTyped
from calm_tariff.services.admit.portals import handing_over, own_site, portals, serving
from calm_tariff.services.base import auditing, webhooks
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.store.base.paging import PageQuery
from tests.office import BY_TRANSFER, Office
from tests.services.accounts import letters

SITE = "https://own.example/begin?from=portal"


@pytest.fixture
def signing(office: Office) -> Context:
    """The context of Ferries' owner, at the first portal of an installation that signs."""
    ctx = replace(office.acting(office.consumers[0]), signing_secret="a secret")
    return ctx.acting(replace(ctx.actor, portal_id=portals.listed(office.manager)[0].id))


def first(office: Office) -> int:
    return portals.listed(office.manager)[0].id


def said(ctx: Context, address: str) -> dict[str, Any]:
    """What a statement says, as a site reads it that has our public keys alone."""
    query = parse_qs(urlsplit(address).query)
    assert query["from"] == ["portal"]
    keys = KeySet.import_key_set(tokens.key_set(ctx))
    return dict(jwt.decode(query["statement"][0], keys, algorithms=["ES256"]).claims)


def test_a_stranger_is_sent_to_the_site_with_a_statement_that_is_good_for_minutes(
    office: Office, signing: Context
) -> None:
    with pytest.raises(NotFound):
        handing_over.to_sign_up(signing)
    own_site.set_site(office.manager, first(office), SITE)

    claims = said(signing, handing_over.to_sign_up(signing))

    assert (claims["asks"], claims["aud"]) == ("sign up", "https://own.example")
    assert claims["iss"] == signing.web_address and claims["back"].endswith("/portal/sign-in")
    assert claims["exp"] - claims["iat"] == 300
    assert claims["jti"] != said(signing, handing_over.to_sign_up(signing))["jti"]
    with pytest.raises(Conflict, match=r"made at own\.example"):
        handing_over.refuse_sign_up(signing)


def test_a_member_is_sent_with_who_asks_for_what(office: Office, signing: Context) -> None:
    plan = office.plans["Skiff"]
    with pytest.raises(NotFound):
        handing_over.to_subscribe(signing, "harbour-data", plan)
    handing_over.refuse_here(signing, plan)
    office.change_product(subscribing_site=SITE)

    mine = office.consumers[0].application
    claims = said(signing, handing_over.to_subscribe(signing, "harbour-data", plan, mine))

    assert claims["asks"] == "subscribe"
    assert claims["plan"] == {"id": plan, "name": "Skiff"}
    assert claims["consumer"] == {"id": signing.actor.consumer_id, "name": "Ferries"}
    assert claims["member"]["email"] == "ferries@consumer.example"
    assert claims["application"] == {"id": mine, "name": "Ferries app"}
    with pytest.raises(Conflict, match=r"chosen at own\.example"):
        handing_over.refuse_here(signing, plan)
    with pytest.raises(NotFound):
        handing_over.to_subscribe(signing, "harbour-data", plan, office.consumers[1].application)
    with pytest.raises(NotFound):
        handing_over.to_subscribe(signing, "harbour-data", 10**6)
    billing = signing.acting(replace(signing.actor, membership="billing"))
    with pytest.raises(NotAllowed):
        handing_over.to_subscribe(billing, "harbour-data", plan)


@pytest.mark.parametrize(
    "address", ["own.example", "javascript:alert(1)", "https://a:b@own.example", "https://own.example/#x", "x" * 201]
)
def test_what_is_no_page_is_refused_by_name(office: Office, address: str) -> None:
    with pytest.raises(Invalid) as refused:
        own_site.set_site(office.manager, first(office), address)
    assert refused.value.where == "sign_up_site"
    with pytest.raises(Invalid) as refused:
        office.change_product(subscribing_site=address)
    assert refused.value.where == "subscribing_site"


def test_a_back_end_makes_the_account_the_application_and_the_subscription(office: Office) -> None:
    token = office.reviewer.acting(replace(office.reviewer.actor, name="token own site", person_id=None, token_id=7))
    made = on_behalf.make_consumer(
        token, ConsumerTyped(organisation="Tern Cruises", name="Tess", email="Tess@tern.example")
    )
    application = on_behalf.make_application(token, made.consumer_id, "Decks")
    granted = on_behalf.subscribe(token, application.id, office.plans["Skiff"], "Times on deck.", payment=BY_TRANSFER)

    assert (granted.state, granted.consumer, granted.email) == ("granted", "Tern Cruises", "tess@tern.example")
    (letter,) = letters(office.ctx, "tess@tern.example")[:1]
    assert "password" in letter.subject.lower()
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, MEMBERS, "tess@tern.example", "")
    entries = auditing.entries(office.manager, PageQuery()).rows
    registered = next(each for each in entries if each.action == "registered an application")
    assert registered.actor.startswith("token own site, for Tess")
    with pytest.raises(Conflict):
        on_behalf.make_consumer(token, ConsumerTyped(organisation="Tern Cruises", name="T", email="t@tern.example"))
    with pytest.raises(Conflict):
        on_behalf.subscribe(token, application.id, office.plans["Skiff"], "Times on deck.")


def test_a_back_end_may_make_many_accounts_at_once_and_each_owner_gets_a_letter(office: Office) -> None:
    for n in range(25):
        mail = f"owner{n}@many.example"
        on_behalf.make_consumer(office.reviewer, ConsumerTyped(organisation=f"Many {n} Co", name="O", email=mail))
        assert len(letters(office.ctx, mail)) == 1


def test_two_people_still_decide_where_two_must(office: Office) -> None:
    office.change_product(route=Route(otherwise="reviewed twice"))
    made = on_behalf.make_consumer(office.reviewer, ConsumerTyped(organisation="Tern", name="T", email="t@t.example"))
    application = on_behalf.make_application(office.reviewer, made.consumer_id, "Decks")

    asked = on_behalf.subscribe(
        office.reviewer, application.id, office.plans["Skiff"], "Times on deck.", payment=BY_TRANSFER
    )
    assert asked.state == "waiting"


def test_nobody_but_the_provider_s_reviewers_does_so(office: Office) -> None:
    typed = ConsumerTyped(organisation="Tern", name="T", email="t@t.example")
    ours = office.consumers[0]
    for ctx in (office.ctx, office.acting(ours), office.finance):
        with pytest.raises((NotSignedIn, NotAllowed)):
            on_behalf.make_consumer(ctx, typed)
        with pytest.raises((NotSignedIn, NotAllowed)):
            on_behalf.make_application(ctx, 1, "x")
        with pytest.raises((NotSignedIn, NotAllowed)):
            on_behalf.subscribe(ctx, ours.application, office.plans["Skiff"], "Times on deck.")
    for missing in (
        lambda: on_behalf.make_application(office.reviewer, 10**6, "x"),
        lambda: on_behalf.subscribe(office.reviewer, 10**6, office.plans["Skiff"], "Times on deck."),
        lambda: on_behalf.make_consumer(office.reviewer, replace(typed, portal_id=10**6)),
    ):
        with pytest.raises(NotFound):
            missing()


BODY = b'{"email":"ferries@consumer.example"}'


def signed(office: Office, secret: str, body: bytes = BODY, **late: int) -> dict[str, str]:
    return dict(webhooks.signed(secret, "ask-1", office.ctx.now - timedelta(**late), body.decode()).fields)


def test_documentation_that_signs_is_told_beginnings_of_good_keys_alone(office: Office) -> None:
    at, here = first(office), serving.asked(office.ctx, "/portal")
    secret = own_site.make_secret(office.manager, at)
    own = office.acting(office.consumers[0])
    other = credentials.make_key(own, office.consumers[0].application, "old")
    credentials.revoke_key(own, other.key.id)

    personal.must_be_signed(office.ctx, here, signed(office, secret), BODY)
    (found,) = personal.applications_of(office.ctx, here, " Ferries@consumer.example ")

    assert found.name == "Ferries app" and found.client_id.startswith("app-")
    (key,) = found.keys
    assert key.label == "server" and office.consumers[0].secret.startswith(key.prefix)
    assert len(key.prefix) < 20
    assert personal.applications_of(office.ctx, here, "nobody@consumer.example") == []


def test_what_is_not_signed_now_by_this_portal_is_turned_away_the_same_way(office: Office) -> None:
    at, here = first(office), serving.asked(office.ctx, "/portal")
    other = portals.create(office.manager, "others", "Others")
    good = signed(office, own_site.make_secret(office.manager, at))
    elsewhere = own_site.make_secret(office.manager, other.id)
    wrong: list[tuple[dict[str, str], bytes]] = [
        ({}, BODY),
        ({**good, "webhook-signature": ""}, BODY),
        ({**good, "webhook-signature": "v1,AAAA"}, BODY),
        ({**good, "webhook-id": "ask-2"}, BODY),
        ({**good, "webhook-timestamp": "1"}, BODY),
        ({**good, "webhook-timestamp": "soon"}, BODY),
        ({**good, "webhook-timestamp": "9" * 30}, BODY),
        (good, b'{"email":"kayaks@consumer.example"}'),
        (good, b"\xff"),
        (signed(office, elsewhere), BODY),
        (signed(office, webhooks.new_secret()), BODY),
    ]
    said = set()
    for fields, body in wrong:
        with pytest.raises(NotSignedIn) as refused:
            personal.must_be_signed(office.ctx, here, fields, body)
        said.add(str(refused.value))
    assert len(said) == 1
    for late in ({"minutes": 6}, {"minutes": -6}):
        with pytest.raises(NotSignedIn):
            personal.must_be_signed(
                office.ctx, here, signed(office, own_site.make_secret(office.manager, at), **late), BODY
            )
    renewed = own_site.make_secret(office.manager, at)
    with pytest.raises(NotSignedIn):
        personal.must_be_signed(office.ctx, here, good, BODY)
    own_site.take_secret(office.manager, at)
    with pytest.raises(NotSignedIn):
        personal.must_be_signed(office.ctx, here, signed(office, renewed), BODY)


def test_who_sees_no_keys_here_or_is_no_longer_there_shows_none_elsewhere(office: Office) -> None:
    here = serving.asked(office.ctx, "/portal")
    with office.ctx.transaction() as session:
        member = MEMBERS.by_email(session, "ferries@consumer.example")
        assert member
        member.role = "billing"
    assert personal.applications_of(office.ctx, here, "ferries@consumer.example") == []
    kayaks = office.acting(office.consumers[1])
    assert applications.own(kayaks) and personal.applications_of(office.ctx, here, "kayaks@consumer.example")
    narrow = replace(here, id=10**6, groups=frozenset({1}))
    assert personal.applications_of(office.ctx, narrow, "kayaks@consumer.example") == []
