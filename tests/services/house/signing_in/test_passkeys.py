"""A passkey opens the account it was made for, at the host it was made for, each time by something new to sign;
whatever else is shown opens nothing (WebAuthn Level 3, 7.1 and 7.2)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound, NotSignedIn, TooMany
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import passkeys, sessions, throttling
from calm_tariff.services.house.signing_in.passkeys import Host
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.people import Passkey, PasskeyChallenge
from tests.office import PASSWORD, Office
from tests.services.accounts import INES, letters
from tests.services.house.signing_in.test_second_factor import KAYAKS, acting, code, turned_on
from tests.soft_passkey import PRESENT, SoftPasskey

HERE = Host("portal.example", "https://portal.example")
ELSEWHERE = Host("other.example", "https://other.example")


def made(own: Context, realm: Realm = MEMBERS, host: Host = HERE, **of: Any) -> SoftPasskey:
    soft = SoftPasskey(**of)
    options = passkeys.begin(own, realm, host, PASSWORD)
    passkeys.keep(own, realm, host, soft.made(options, host.origin), "my telephone")
    return soft


def enter(office: Office, soft: SoftPasskey, realm: Realm = MEMBERS, host: Host = HERE) -> str | None:
    """Whom a passkey signs in; None where nobody."""
    shown = soft.shown(passkeys.ask(office.ctx, host), host.origin)
    try:
        return sessions.who(office.ctx, realm, passkeys.sign_in(office.ctx, realm, host, shown)).name
    except NotSignedIn:
        return None


@pytest.mark.parametrize(("realm", "email"), [(MEMBERS, KAYAKS), (PEOPLE, INES)])
def test_a_passkey_opens_its_account_and_no_other_kind_of_account(office: Office, realm: Realm, email: str) -> None:
    own = acting(office, realm, email)
    soft = made(own, realm)
    other = PEOPLE if realm is MEMBERS else MEMBERS
    assert (enter(office, soft, realm), enter(office, soft, other)) == (own.actor.name, None)
    assert enter(office, SoftPasskey(), realm) is None
    [kept] = passkeys.own(own, realm)
    assert (kept.label, kept.host, kept.used_at) == ("my telephone", "portal.example", office.ctx.now)
    assert "was made for your account" in letters(office.ctx, email)[-1].body
    passkeys.end(own, realm, kept.id, PASSWORD)
    assert enter(office, soft, realm) is None
    assert "was removed, and opens it no more" in letters(office.ctx, email)[-1].body
    said = [entry.action for entry in auditing.entries(office.manager, PageQuery(rows=20)).rows]
    for one in ("made a passkey", "removed a passkey", "was turned away at the sign-in"):
        assert one in said


def test_it_asks_for_no_code_for_whoever_made_it_has_shown_one(office: Office) -> None:
    own, secret, _ = turned_on(office)
    for typed in ("", "000000"):
        with pytest.raises(Invalid) as refused:
            passkeys.begin(own, MEMBERS, HERE, PASSWORD, typed)
        assert refused.value.where == "code"
    soft = SoftPasskey()
    options = passkeys.begin(own, MEMBERS, HERE, PASSWORD, code(office, secret))
    passkeys.keep(own, MEMBERS, HERE, soft.made(options, HERE.origin), "stick")
    assert enter(office, soft) == own.actor.name


def test_what_was_signed_once_is_signed_for_good_and_in_time(office: Office) -> None:
    soft = made(acting(office))
    shown = soft.shown(passkeys.ask(office.ctx, HERE), HERE.origin)
    passkeys.sign_in(office.ctx, MEMBERS, HERE, shown)
    with pytest.raises(NotSignedIn):
        passkeys.sign_in(office.ctx, MEMBERS, HERE, shown)
    late = soft.shown(passkeys.ask(office.ctx, HERE), HERE.origin)
    office.clock.forward(seconds=passkeys.GOOD / timedelta(seconds=1))
    with pytest.raises(NotSignedIn):
        passkeys.sign_in(office.ctx, MEMBERS, HERE, late)
    passkeys.ask(office.ctx, HERE)
    with office.ctx.transaction() as session:
        assert len(session.scalars(select(PasskeyChallenge)).all()) == 1  # those too old are thrown away


def changed(soft: SoftPasskey, **to: Any) -> SoftPasskey:
    return replace(soft, **to)


@pytest.mark.parametrize(
    "cheat",
    [
        pytest.param(lambda soft: changed(soft, key=SoftPasskey().key), id="another key under its name"),
        pytest.param(lambda soft: changed(soft, flags=PRESENT), id="nobody unlocked it"),
        pytest.param(lambda soft: changed(soft, uses=soft.uses - 1), id="a copy that was used less"),
    ],
)
def test_what_is_not_the_passkey_itself_opens_nothing(
    office: Office, cheat: Callable[[SoftPasskey], SoftPasskey]
) -> None:
    soft = made(acting(office))
    assert enter(office, soft)
    assert enter(office, cheat(soft)) is None
    assert enter(office, soft)


@pytest.mark.parametrize("signed_for", [HERE, ELSEWHERE])
@pytest.mark.parametrize(
    ("host", "origin"),
    [(HERE, ELSEWHERE.origin), (ELSEWHERE, HERE.origin), (ELSEWHERE, ELSEWHERE.origin)],
    ids=["a page of elsewhere", "asked elsewhere", "elsewhere"],
)
def test_a_page_elsewhere_gets_nothing_that_opens_an_account_here(
    office: Office, host: Host, origin: str, signed_for: Host
) -> None:
    soft = made(acting(office))
    options = {**passkeys.ask(office.ctx, HERE), "rpId": signed_for.name}
    with pytest.raises(NotSignedIn):
        passkeys.sign_in(office.ctx, MEMBERS, host, soft.shown(options, origin))


def test_what_one_was_given_to_make_a_passkey_of_is_nobody_elses_and_signs_nobody_in(office: Office) -> None:
    own, ines, soft = acting(office), acting(office, PEOPLE, INES), SoftPasskey()
    made_of = soft.made(passkeys.begin(own, MEMBERS, HERE, PASSWORD), HERE.origin)
    with pytest.raises(Invalid, match="begin again"):
        passkeys.keep(ines, PEOPLE, HERE, made_of, "taken")
    with pytest.raises(Invalid, match="not what a browser makes"):
        passkeys.keep(own, MEMBERS, ELSEWHERE, made_of, "elsewhere")
    with pytest.raises(Invalid, match="begin again"):  # it was answered
        passkeys.keep(own, MEMBERS, HERE, made_of, "again")
    kept = made(own)
    of_begin = kept.shown({"rpId": HERE.name, **passkeys.begin(own, MEMBERS, HERE, PASSWORD)}, HERE.origin)
    with pytest.raises(NotSignedIn, match="this passkey opens no account here"):
        passkeys.sign_in(office.ctx, MEMBERS, HERE, of_begin)
    for_all = passkeys.ask(office.ctx, HERE)
    with pytest.raises(Invalid, match="begin again"):
        passkeys.keep(own, MEMBERS, HERE, soft.made({"rp": {"id": HERE.name}, **for_all}, HERE.origin), "of a sign-in")


def test_one_that_nobody_unlocks_and_one_known_already_are_not_taken(office: Office) -> None:
    own = acting(office)
    for soft, why in ((SoftPasskey(flags=PRESENT), "not what a browser makes"), (made(own), "known already")):
        options = passkeys.begin(own, MEMBERS, HERE, PASSWORD)
        with pytest.raises(Invalid, match=why):
            passkeys.keep(own, MEMBERS, HERE, soft.made(options, HERE.origin), "mine")
    assert len(passkeys.begin(own, MEMBERS, HERE, PASSWORD)["excludeCredentials"]) == 1
    assert passkeys.begin(own, MEMBERS, ELSEWHERE, PASSWORD)["excludeCredentials"] == []


@pytest.mark.parametrize("name", ["127.0.0.1", "[::1]", "::1", "192.0.2.7"])
def test_a_host_that_is_a_number_has_none(office: Office, name: str) -> None:
    with pytest.raises(Invalid, match="passkeys are for pages at a name"):
        passkeys.begin(acting(office), MEMBERS, Host(name, f"https://{name}"), PASSWORD)
    with pytest.raises(Invalid, match="at a name"):
        passkeys.ask(office.ctx, Host(name, f"https://{name}"))


def test_the_password_is_asked_for_and_only_ones_own_are_removed(office: Office) -> None:
    own, ines = acting(office), acting(office, PEOPLE, INES)
    made(own)
    [kept] = passkeys.own(own, MEMBERS)
    assert passkeys.own(ines, PEOPLE) == []
    with pytest.raises(Invalid, match="not your present password"):
        passkeys.begin(own, MEMBERS, HERE, "wrong")
    with pytest.raises(Invalid, match="not your present password"):
        passkeys.end(own, MEMBERS, kept.id, "wrong")
    for passkey in (kept.id, kept.id + 1):
        with pytest.raises(NotFound, match="you have no such passkey"):
            passkeys.end(ines, PEOPLE, passkey, PASSWORD)
    with pytest.raises(NotSignedIn):
        passkeys.own(office.ctx, MEMBERS)
    with pytest.raises(Invalid) as refused:
        passkeys.keep(own, MEMBERS, HERE, {}, " ")
    assert refused.value.where == "label"


def test_there_is_an_end_to_how_many_one_has_and_how_often_one_tries(office: Office) -> None:
    own = acting(office)
    with office.ctx.transaction() as session:
        for n in range(passkeys.MOST):
            common = {"credential": "x", "public_key": "x", "host": HERE.name, "label": "x", "uses": 0}
            session.add(
                Passkey(member_id=own.actor.member_id, credential_hash=str(n), made_at=office.ctx.now, **common)
            )
    with pytest.raises(Conflict, match="remove one first"):
        passkeys.begin(own, MEMBERS, HERE, PASSWORD)
    soft = SoftPasskey()
    for _ in range(throttling.ACCOUNT[0].amount):
        assert enter(office, soft) is None
    with pytest.raises(TooMany) as refused:
        enter(office, soft)
    assert refused.value.where == ""  # no field of the page is to blame
    for _ in range(throttling.ADDRESS[0].amount - throttling.ACCOUNT[0].amount - 1):
        passkeys.ask(office.ctx, HERE)
    with pytest.raises(TooMany):
        passkeys.ask(office.ctx, HERE)


def test_who_left_is_let_in_no_more(office: Office) -> None:
    own = acting(office)
    soft = made(own)
    closed = replace(MEMBERS, takes=lambda session, account: False)
    assert enter(office, soft, closed) is None
    with office.ctx.transaction() as session:
        passkeys.forget(session, MEMBERS, MEMBERS.me(own))
    assert enter(office, soft) is None and passkeys.own(own, MEMBERS) == []


ODD: list[Any] = [None, 7, "", "x", "!", "AAAA", "\ud800", "bnVsbA", "e30", [], {}, {"a": []}, [[]], True]
FIELDS = ["id", "rawId", "type", "response", "clientDataJSON", "attestationObject", "authenticatorData", "signature"]


def spoilt(whole: dict[str, Any], field: str, value: Any) -> dict[str, Any]:
    """A credential with another value in one of its fields."""
    response = {**whole["response"], field: value} if field in whole["response"] else whole["response"]
    return {**whole, "response": response, **({field: value} if field in whole else {})}


@pytest.mark.parametrize("field", FIELDS)
def test_whatever_is_sent_in_place_of_a_passkey_is_refused_in_words(office: Office, field: str) -> None:
    own = acting(office)
    soft = made(own)
    for value in ODD:
        office.clock.forward(seconds=86_400)
        making = SoftPasskey().made(passkeys.begin(own, MEMBERS, HERE, PASSWORD), HERE.origin)
        if making != (sent := spoilt(making, field, value)):
            with pytest.raises(Invalid):
                passkeys.keep(own, MEMBERS, HERE, sent, "odd")
        shown = soft.shown(passkeys.ask(office.ctx, HERE), HERE.origin)
        if shown != (sent := spoilt(shown, field, value)):
            with pytest.raises(NotSignedIn):
                passkeys.sign_in(office.ctx, MEMBERS, HERE, sent)
