"""A second factor is asked for once it was shown; each code is good once; who lost it has recovery codes (RFC 6238)."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pyotp
import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotSignedIn, TooMany
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import passwords, second_factor, sessions
from calm_tariff.services.house.signing_in.realms import Realm
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.people import SecondFactor
from tests.office import PASSWORD, Office
from tests.services.accounts import INES, OTHER, letters, signed_in, token_in

KAYAKS = "kayaks@consumer.example"


def acting(office: Office, realm: Realm = MEMBERS, email: str = KAYAKS) -> Context:
    return office.ctx.acting(sessions.who(office.ctx, realm, sessions.sign_in(office.ctx, realm, email, PASSWORD)))


def code(office: Office, secret: str, steps: int = 0) -> str:
    return pyotp.TOTP(secret).at(office.ctx.now + timedelta(seconds=30 * steps))


def turned_on(office: Office, realm: Realm = MEMBERS, email: str = KAYAKS) -> tuple[Context, str, list[str]]:
    own = acting(office, realm, email)
    begun = second_factor.begin(own, realm, PASSWORD)
    made = second_factor.confirm(own, realm, code(office, begun.secret))
    office.clock.forward(seconds=30)
    return own, begun.secret, made.codes


def enter(office: Office, typed: str = "", realm: Realm = MEMBERS, email: str = KAYAKS) -> str:
    try:
        return sessions.sign_in(office.ctx, realm, email, PASSWORD, code=typed) and "in"
    except NotSignedIn as error:
        return error.where


@pytest.mark.parametrize(("realm", "email"), [(MEMBERS, KAYAKS), (PEOPLE, INES)])
def test_once_on_the_password_alone_opens_nothing(office: Office, realm: Realm, email: str) -> None:
    own = acting(office, realm, email)
    begun = second_factor.begin(own, realm, PASSWORD)
    assert begun.address.startswith("otpauth://totp/Test%20Office:") and begun.secret in begun.address
    assert begun.picture.startswith("data:image/svg+xml")
    assert enter(office, realm=realm, email=email) == "in"  # it does not count before a code was shown
    with pytest.raises(Invalid, match="not a code of this secret"):
        second_factor.confirm(own, realm, "000000")
    made = second_factor.confirm(own, realm, code(office, begun.secret))
    assert len(set(made.codes)) == second_factor.RECOVERY_CODES
    assert second_factor.state(own, realm).on and second_factor.state(own, realm).recovery_left == 10
    assert enter(office, realm=realm, email=email) == "code"
    with pytest.raises(NotSignedIn) as wrong:  # the place of the code is told to whoever knows the password alone
        sessions.sign_in(office.ctx, realm, email, "not the password")
    assert wrong.value.where == "password"
    office.clock.forward(seconds=30)
    assert enter(office, code(office, begun.secret), realm, email) == "in"


def test_a_code_is_good_once_and_for_a_step_before_and_after(office: Office) -> None:
    _, secret, _ = turned_on(office)
    now = code(office, secret)
    assert enter(office, f"{now[:3]} {now[3:]}") == "in"
    assert enter(office, now) == "code"
    assert enter(office, code(office, secret, -1)) == "code"  # older than one that was taken
    assert enter(office, code(office, secret, 1)) == "in"
    office.clock.forward(minutes=5)
    assert enter(office, code(office, secret, -2)) == "code"
    assert enter(office, code(office, secret, 2)) == "code"
    assert enter(office, code(office, secret, -1)) == "in"
    tried = auditing.entries(office.manager, PageQuery("turned away", rows=20)).rows
    assert len(tried) == 4 and {e.subject for e in tried} == {KAYAKS}


def test_a_recovery_code_is_good_once_and_its_use_is_told(office: Office) -> None:
    own, secret, codes = turned_on(office)
    assert enter(office, codes[3].upper()) == "in"
    assert enter(office, codes[3]) == "code"
    assert second_factor.state(own, MEMBERS).recovery_left == 9
    assert [m.subject for m in letters(office.ctx, KAYAKS)][-1] == "A recovery code of yours was used at Test Office"
    others = second_factor.renew(own, MEMBERS, code(office, secret), PASSWORD)
    assert not set(others.codes) & set(codes)
    assert (enter(office, codes[0]), enter(office, others.codes[0])) == ("code", "in")
    with office.ctx.transaction() as session:  # neither the secret nor the codes can be read
        kept = session.scalars(select(SecondFactor)).one()
        assert secret not in kept.sealed and not set(kept.recovery) & {c.replace("-", "") for c in others.codes}


def test_codes_cannot_be_tried_through(office: Office) -> None:
    turned_on(office)
    for n in range(5):
        assert enter(office, f"{n:06}") == "code"
    with pytest.raises(TooMany):
        enter(office, "000007")


def test_it_is_turned_off_by_password_and_code_alone(office: Office) -> None:
    own, secret, codes = turned_on(office)
    with pytest.raises(Invalid) as password:
        second_factor.end(own, MEMBERS, code(office, secret), "not the password")
    with pytest.raises(Invalid) as wrong:
        second_factor.end(own, MEMBERS, "123456", PASSWORD)
    assert (password.value.where, wrong.value.where) == ("password", "code")
    with pytest.raises(Conflict, match="turn it off first"):
        second_factor.begin(own, MEMBERS, PASSWORD)
    second_factor.end(own, MEMBERS, codes[0], PASSWORD)
    assert not second_factor.state(own, MEMBERS).on and enter(office) == "in"
    with pytest.raises(Conflict, match="no second factor"):
        second_factor.renew(own, MEMBERS, codes[1], PASSWORD)
    said = [m.subject for m in letters(office.ctx, KAYAKS) if "second factor" in m.subject]
    assert said == ["A second factor at Test Office was turned on", "Your second factor at Test Office was turned off"]


def test_codes_cannot_be_tried_through_by_whoever_has_a_session_and_the_password(office: Office) -> None:
    own, _, codes = turned_on(office)
    for n in range(5):
        with pytest.raises(Invalid):
            second_factor.end(own, MEMBERS, f"{n:06}", PASSWORD)
    for attempt in (second_factor.end, second_factor.renew):
        with pytest.raises(TooMany) as refused:
            attempt(own, MEMBERS, codes[0], PASSWORD)
        assert refused.value.where == "code"
    assert second_factor.state(own, MEMBERS).on


def test_a_letter_for_a_password_does_not_go_past_it(office: Office) -> None:
    _, secret, _ = turned_on(office)
    passwords.forgotten(office.ctx, MEMBERS, KAYAKS)
    token = token_in(letters(office.ctx, KAYAKS)[-1])
    for typed in ("", "123456"):
        with pytest.raises(NotSignedIn) as missing:
            passwords.reset(office.ctx, MEMBERS, token, OTHER, code=typed)
        assert missing.value.where == "code"
    assert enter(office, code(office, secret)) == "in"  # the password is what it was, and the letter is still good
    office.clock.forward(seconds=30)
    assert passwords.reset(office.ctx, MEMBERS, token, OTHER, code=code(office, secret))


def test_one_begun_anew_replaces_the_one_before_and_nobody_elses_counts(office: Office) -> None:
    own = acting(office)
    first = second_factor.begin(own, MEMBERS, PASSWORD)
    second = second_factor.begin(own, MEMBERS, PASSWORD)
    with pytest.raises(Invalid):
        second_factor.confirm(own, MEMBERS, code(office, first.secret))
    other = acting(office, email="ferries@consumer.example")
    with pytest.raises(Conflict, match="begin with the password first"):
        second_factor.confirm(other, MEMBERS, code(office, second.secret))
    second_factor.confirm(own, MEMBERS, code(office, second.secret))
    with pytest.raises(NotSignedIn):  # of another kind
        second_factor.state(signed_in(office), MEMBERS)


def test_without_a_secret_to_seal_with_none_is_kept_and_one_sealed_otherwise_opens_nothing(office: Office) -> None:
    own = acting(office)
    with pytest.raises(Conflict, match="CALM_VALUE_SECRET"):
        second_factor.begin(replace(own, sealing_secret=""), MEMBERS, PASSWORD)
    _, secret, codes = turned_on(office)
    elsewhere = replace(office.ctx, sealing_secret="another one")
    with pytest.raises(NotSignedIn):
        sessions.sign_in(elsewhere, MEMBERS, KAYAKS, PASSWORD, code=code(office, secret))
    assert sessions.sign_in(elsewhere, MEMBERS, KAYAKS, PASSWORD, code=codes[0])  # these need no secret
