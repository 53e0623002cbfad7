"""A mail address changes by a letter to the new one, which the old one is told of."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid, NotFound, NotSignedIn, TooMany
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import mail_addresses, passwords, sessions
from tests.office import PASSWORD, Office
from tests.services.accounts import INES, OTHER, letters, signed_in, token_in

NEW = "ines.new@test.example"


def test_it_changes_by_a_letter_to_the_new_one_once(office: Office) -> None:
    own = signed_in(office)
    mail_addresses.ask(own, PEOPLE, NEW.upper(), PASSWORD)
    (letter,) = letters(office.ctx, NEW)
    token = token_in(letter)
    assert f"{office.ctx.web_address}/address#" in letter.body
    assert sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)  # until then it is the old one
    with pytest.raises(NotFound):  # a person's letter is no member's
        mail_addresses.confirm(office.ctx, MEMBERS, token)
    assert mail_addresses.confirm(office.ctx, PEOPLE, token) == NEW
    assert sessions.sign_in(office.ctx, PEOPLE, NEW, PASSWORD)
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)
    with pytest.raises(NotFound):
        mail_addresses.confirm(office.ctx, PEOPLE, token)
    assert letters(office.ctx, INES)[-1].subject == "Your mail address at Test Office was changed"


def test_it_takes_the_present_password_and_an_address_of_another_form(office: Office) -> None:
    own = signed_in(office)
    for email, password, where in (
        (NEW, "wrong one", "password"),
        ("no address", PASSWORD, "email"),
        (INES, PASSWORD, "email"),
    ):
        with pytest.raises(Invalid) as wrong:
            mail_addresses.ask(own, PEOPLE, email, password)
        assert wrong.value.where == where
    assert letters(office.ctx, NEW) == []
    with pytest.raises(NotSignedIn):
        mail_addresses.ask(office.ctx, PEOPLE, NEW, PASSWORD)


def test_it_does_not_tell_who_has_an_account(office: Office) -> None:
    own = office.ctx.acting(office.consumers[0].member)
    assert mail_addresses.ask(own, MEMBERS, "kayaks@consumer.example", PASSWORD) is None
    assert mail_addresses.ask(own, MEMBERS, "nobody@consumer.example", PASSWORD) is None
    there, new = letters(office.ctx, "kayaks@consumer.example")[-1], letters(office.ctx, "nobody@consumer.example")[-1]
    assert "#" not in there.body and "#" in new.body


def test_a_letter_is_good_for_a_day_and_no_longer_than_the_password_and_the_address_are_free(office: Office) -> None:
    own = office.ctx.acting(office.consumers[0].member)

    def asked(email: str) -> str:
        office.clock.forward(hours=2)
        mail_addresses.ask(own, MEMBERS, email, PASSWORD)
        return token_in(letters(office.ctx, email)[-1])

    first, second = asked("one@consumer.example"), asked("two@consumer.example")
    with pytest.raises(NotFound):  # a newer one was asked for
        mail_addresses.confirm(office.ctx, MEMBERS, first)
    office.clock.forward(hours=24)
    with pytest.raises(NotFound):
        mail_addresses.confirm(office.ctx, MEMBERS, second)
    third = asked("three@consumer.example")
    passwords.change(own, MEMBERS, PASSWORD, OTHER)
    with pytest.raises(NotFound):  # whoever asked may have been another
        mail_addresses.confirm(office.ctx, MEMBERS, third)
    passwords.change(own, MEMBERS, OTHER, PASSWORD)
    fourth = asked("gulls@consumer.example")
    office.join("Gulls")
    with pytest.raises(Invalid, match="somebody has this address by now"):
        mail_addresses.confirm(office.ctx, MEMBERS, fourth)
    mail_addresses.forget(office.at(office.ctx.now.replace(year=2030)))
    with pytest.raises(NotFound):
        mail_addresses.confirm(office.ctx, MEMBERS, fourth)


def test_letters_cannot_be_poured_on_somebody(office: Office) -> None:
    own = signed_in(office)
    for _ in range(3):
        mail_addresses.ask(own, PEOPLE, NEW, PASSWORD)
    with pytest.raises(TooMany):
        mail_addresses.ask(own, PEOPLE, NEW, PASSWORD)
    assert len(letters(office.ctx, NEW)) == 3
