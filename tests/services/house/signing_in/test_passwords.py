"""Passwords change, and are set anew by letter; sessions end with them."""

from __future__ import annotations

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Invalid, NotFound, NotSignedIn, TooMany
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import auditing
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.people import PasswordReset
from tests.office import PASSWORD, Office
from tests.services.accounts import INES, OTHER, letters, signed_in, token_in


def test_changing_a_password_ends_every_session_but_the_new_one(office: Office) -> None:
    for realm, email in ((PEOPLE, INES), (MEMBERS, "kayaks@consumer.example")):
        old = [sessions.sign_in(office.ctx, realm, email, PASSWORD) for _ in range(3)]
        own = office.ctx.acting(sessions.who(office.ctx, realm, old[0]))
        with pytest.raises(Invalid) as wrong:
            passwords.change(own, realm, "not the present one", OTHER)
        with pytest.raises(Invalid) as short:
            passwords.change(own, realm, PASSWORD, "short")
        assert (wrong.value.where, short.value.where) == ("current", "password")
        new = passwords.change(own, realm, PASSWORD, OTHER)
        assert [sessions.who(office.ctx, realm, t).name for t in old] == ["nobody"] * 3
        assert sessions.who(office.ctx, realm, new).identity == own.actor.identity
        with pytest.raises(NotSignedIn):
            sessions.sign_in(office.ctx, realm, email, PASSWORD)
        assert sessions.sign_in(office.ctx, realm, email, OTHER)
    another = sessions.sign_in(office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD)
    assert sessions.who(office.ctx, MEMBERS, another).consumer_id
    done = [e.action for e in auditing.entries(office.manager, PageQuery("password", rows=20)).rows]
    assert done.count("changed the password") == 2


def test_the_present_password_cannot_be_guessed_from_a_session_left_open(office: Office) -> None:
    own = signed_in(office)
    for n in range(5):
        with pytest.raises(Invalid):
            passwords.change(own, PEOPLE, f"wrong number {n}", OTHER)
    with pytest.raises(TooMany):
        passwords.change(own, PEOPLE, PASSWORD, OTHER)


def test_a_forgotten_password_is_set_by_a_letter_that_is_good_once_for_its_kind(office: Office) -> None:
    old = sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)
    passwords.forgotten(office.ctx, PEOPLE, INES.upper())
    token = token_in(letters(office.ctx, INES)[-1])
    with pytest.raises(NotFound):  # a person's letter sets no member's password
        passwords.reset(office.ctx, MEMBERS, token, OTHER)
    new = passwords.reset(office.ctx, PEOPLE, token, OTHER)
    assert sessions.who(office.ctx, PEOPLE, old).name == "nobody" and sessions.who(office.ctx, PEOPLE, new).roles == {
        "product manager"
    }
    with pytest.raises(NotFound):
        passwords.reset(office.ctx, PEOPLE, token, PASSWORD)
    passwords.forgotten(office.ctx, PEOPLE, INES)
    late = token_in(letters(office.ctx, INES)[-1])
    office.clock.forward(minutes=30)
    with pytest.raises(NotFound):
        passwords.reset(office.ctx, PEOPLE, late, PASSWORD)
    passwords.forget(office.ctx)
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(PasswordReset)) == 0
    found = [e.action for e in auditing.entries(office.manager, PageQuery("another password", rows=20)).rows]
    assert found == ["asked for another password", "set another password by letter", "asked for another password"]
