"""Signing in, sessions, and how they end."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy import delete

from calm_tariff.core.errors import NotFound, NotSignedIn
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.store.house.people import SignedIn
from tests.office import PASSWORD, START, Office
from tests.services.accounts import INES


def test_nobody_is_told_whether_an_account_exists_and_sessions_end(office: Office) -> None:
    for email, password in (("nobody@consumer.example", PASSWORD), ("ferries@consumer.example", "wrong password")):
        with pytest.raises(NotSignedIn, match="the e-mail address or the password is not right"):
            sessions.sign_in(office.ctx, MEMBERS, email, password)
    token = sessions.sign_in(office.ctx, MEMBERS, "Ferries@consumer.example", PASSWORD)
    assert sessions.who(office.ctx, MEMBERS, token).consumer == "Ferries"
    assert sessions.who(office.at(START + sessions.SESSION), MEMBERS, token).consumer_id is None
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, PEOPLE, "ferries@consumer.example", PASSWORD)


def test_a_session_ends_when_it_is_not_used_and_in_any_case_after_twelve_hours(office: Office) -> None:
    token = sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)
    for _ in range(14):
        office.clock.forward(minutes=50)
        assert sessions.who(office.ctx, PEOPLE, token).name == "product manager"
    office.clock.forward(minutes=50)
    assert sessions.who(office.ctx, PEOPLE, token).name == "nobody"  # 12 h 30 min
    idle = sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)
    office.clock.forward(minutes=60)
    assert sessions.who(office.ctx, PEOPLE, idle).name == "nobody"


def test_one_sees_where_one_is_signed_in_and_ends_what_is_ones_own_alone(office: Office) -> None:
    with office.ctx.transaction() as session:
        session.execute(delete(SignedIn))
    tokens = [sessions.sign_in(office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD) for _ in range(3)]
    theirs = sessions.sign_in(office.ctx, MEMBERS, "kayaks@consumer.example", PASSWORD)
    staff = sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)
    sessions.began_from(office.ctx, tokens[1], "192.0.2.7", "Netscape" * 50)
    office.clock.forward(minutes=5)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, tokens[1]))
    last, *others = sessions.own(own, MEMBERS, tokens[1])
    assert (last.this, last.address, len(last.browser)) == (True, "192.0.2.7", 200)
    assert last.seen_at - last.began_at == timedelta(minutes=5)
    assert [one.this for one in others] == [False, False] and len({last.id, *(one.id for one in others)}) == 3

    other = office.ctx.acting(sessions.who(office.ctx, MEMBERS, theirs))
    person = office.ctx.acting(sessions.who(office.ctx, PEOPLE, staff))
    for realm, ctx, wrong in (
        (MEMBERS, other, last.id),
        (PEOPLE, person, last.id),
        (MEMBERS, own, last.id[:-1]),
        (MEMBERS, own, "%" * sessions.SHOWN),
        (MEMBERS, own, ""),
    ):
        with pytest.raises(NotFound):
            sessions.end_one(ctx, realm, wrong)
    for ask in (
        lambda: sessions.own(person, MEMBERS, staff),
        lambda: sessions.end_others(person, MEMBERS, staff),
        lambda: sessions.end_one(office.ctx, MEMBERS, last.id),
    ):
        with pytest.raises(NotSignedIn):
            ask()

    sessions.end_one(own, MEMBERS, others[0].id)
    assert [one.id for one in sessions.own(own, MEMBERS, tokens[1])] == [last.id, others[1].id]
    sessions.end_others(own, MEMBERS, tokens[1])
    assert [one.id for one in sessions.own(own, MEMBERS, tokens[1])] == [last.id]
    left = [sessions.who(office.ctx, MEMBERS, token).consumer for token in (*tokens, theirs)]
    assert left == ["", "Ferries", "", "Kayaks"]
    office.clock.forward(minutes=61)
    assert sessions.own(replace(own, clock=office.clock), MEMBERS, tokens[1]) == []  # it ended by itself
