"""Signing in: who tries too often waits, whoever's password it is; and all of it is on the record."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from threading import Barrier, Lock

import pytest

from calm_tariff.core.errors import CalmTariffError, NotSignedIn, TooMany
from calm_tariff.services.admit import sign_up
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing, secrets
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions, throttling
from calm_tariff.store.base.paging import PageQuery
from tests.office import PASSWORD, START, Office

INES = "product@test.example"


def tried(office: Office, email: str, password: str, address: str = "192.0.2.1") -> str:
    try:
        sessions.sign_in(office.ctx, PEOPLE, email, password, address)
    except CalmTariffError as error:
        return error.__class__.__name__
    return "in"


def test_after_five_wrong_passwords_even_the_right_one_waits(office: Office) -> None:
    assert [tried(office, INES, "wrong" * 3) for _ in range(6)] == ["NotSignedIn"] * 5 + ["TooMany"]
    with pytest.raises(TooMany) as refused:
        sessions.sign_in(office.ctx, PEOPLE, INES.upper(), PASSWORD, "198.51.100.9")
    assert 0 < refused.value.wait <= 61
    assert tried(office, "finance@test.example", PASSWORD) == "in"  # others are not held up
    office.clock.forward(seconds=refused.value.wait)
    assert tried(office, INES, PASSWORD) == "in"


def test_the_longer_it_goes_on_the_longer_it_takes(office: Office) -> None:
    waits = []
    for _ in range(60):
        try:
            sessions.sign_in(office.ctx, PEOPLE, INES, "wrong" * 3, "192.0.2.1")
        except TooMany as error:
            waits.append(error.wait)
            office.clock.forward(seconds=error.wait)
        except NotSignedIn:
            pass
    # A minute, then the rest of the hour, then the rest of the day.
    assert waits[0] <= 61 and any(600 < w <= 3601 for w in waits) and max(waits) > 36_000
    looked_at = list(auditing.entries(office.manager, PageQuery("turned away", rows=100)).rows)
    first_day = [e for e in looked_at if e.at < START + timedelta(days=1)]
    assert len(first_day) <= 40


def test_many_at_once_are_no_way_around(office: Office) -> None:
    gate = Barrier(12)

    def one(n: int) -> str:
        gate.wait()
        return tried(office, INES, f"wrong number {n}")

    with ThreadPoolExecutor(12) as pool:
        got = list(pool.map(one, range(12)))
    assert got.count("NotSignedIn") <= 5 and got.count("TooMany") >= 7


def test_an_address_that_tries_many_accounts_waits_and_the_right_ones_do_not_count(office: Office) -> None:
    for n in range(40):
        assert tried(office, "finance@test.example", PASSWORD) == "in", n
    got = [tried(office, f"nobody{n}@test.example", "wrong" * 3) for n in range(35)]
    assert got.count("NotSignedIn") == 30 and got[-1] == "TooMany"
    assert tried(office, "finance@test.example", PASSWORD, "198.51.100.9") == "in"
    throttling.forget(office.ctx)
    assert tried(office, "nobody@test.example", "wrong" * 3) == "TooMany"  # what still counts is not forgotten
    office.clock.forward(hours=1)
    throttling.forget(office.ctx)
    assert tried(office, "nobody@test.example", "wrong" * 3) == "NotSignedIn"


def test_a_member_is_throttled_apart_from_a_person_of_the_same_address(office: Office) -> None:
    email = office.consumers[0].email
    for _ in range(6):
        tried(office, email, "wrong" * 3)
    assert sessions.sign_in(office.ctx, MEMBERS, email, PASSWORD, "192.0.2.8")


def test_signing_in_and_out_and_what_failed_stand_on_the_record(office: Office) -> None:
    tried(office, INES, "wrong" * 3)
    tried(office, "nobody@test.example", "wrong" * 3)
    token = sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD, "192.0.2.1")
    ines = sessions.who(office.ctx, PEOPLE, token)
    sessions.sign_out(office.ctx.acting(ines), token)
    sessions.sign_out(office.ctx.acting(ines), token)  # ended already, and no error
    found = [(e.action, e.subject, e.why) for e in auditing.entries(office.manager, PageQuery("sign", rows=20)).rows]
    assert [f for f in found if f[0].startswith(("signed in", "signed out", "was turned"))][:4] == [
        ("signed out", "product manager", ""),
        ("signed in", INES, "from 192.0.2.1"),
        ("was turned away at the sign-in", "nobody@test.example", "from 192.0.2.1"),
        ("was turned away at the sign-in", INES, "from 192.0.2.1"),
    ]


def test_a_password_of_any_length_costs_no_memory(office: Office) -> None:
    assert tried(office, INES, "x" * 1_000_001) == "NotSignedIn"
    typed = SignUpTyped(name="Gull", organisation="Gulls", password="x" * 1001)
    with pytest.raises(CalmTariffError) as refused:
        sign_up.open_account(office.ctx, "gull@consumer.example", typed)
    assert refused.value.where == "password"


def test_no_more_than_two_passwords_are_hashed_at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    gate, going, most = Lock(), 0, 0

    class Slow:
        """Stands for the hashing, and sees how many do it."""

        def verify(self, stored: str, password: str) -> bool:
            nonlocal going, most
            with gate:
                going += 1
                most = max(most, going)
            two.wait()  # nobody goes on before two are here: with room for two there always are
            with gate:
                going -= 1
            return True

        hash = verify

    two = Barrier(2)
    monkeypatch.setattr(secrets, "_passwords", Slow())
    with ThreadPoolExecutor(8) as pool:
        tried = [pool.submit(secrets.password_matches, "stored", "a password") for _ in range(8)]
        assert all(each.result(60) for each in tried)
    assert most == 2
