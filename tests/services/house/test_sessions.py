"""Signing in, sessions, and how they end."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.house import sessions
from calm_tariff.services.house.people import PEOPLE
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
