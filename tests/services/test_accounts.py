"""An address is shown to be one's own before anything is made of it; passwords change, sessions end, tokens too."""

from __future__ import annotations

import re
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from threading import Barrier

import pytest
from sqlalchemy import delete, func, select
from starlette.testclient import TestClient

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn, TooMany
from calm_tariff.services.admit import applications, sign_up
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.house import passwords, service_tokens, sessions
from calm_tariff.services.house import secret_places as places
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.serve import upkeep
from calm_tariff.settings import Settings
from calm_tariff.store.admit.consumers import AwaitedSignUp, Consumer, Member
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.store.house.people import PasswordReset, Person
from calm_tariff.store.house.service_tokens import ServiceTokenPlace
from calm_tariff.web import create_app
from tests.office import PASSWORD, Office

GULLS = SignUpTyped(name="Gil Gull", organisation="Gulls", password=PASSWORD)
INES = "product@test.example"
OTHER = "quite another one"


def letters(ctx: Context, to: str) -> list[Mail]:
    with ctx.transaction() as session:
        return list(session.scalars(select(Mail).where(Mail.recipient == to).order_by(Mail.id)))


def token_in(mail: Mail) -> str:
    found = re.search(r"#(\S+)", mail.body)
    assert found
    return found[1]


def signed_in(office: Office, email: str = INES) -> Context:
    return office.ctx.acting(sessions.who(office.ctx, PEOPLE, sessions.sign_in(office.ctx, PEOPLE, email, PASSWORD)))


def acts(office: Office, token: str, address: str = "192.0.2.1") -> str:
    try:
        return service_tokens.who_by(office.ctx, token, address).role
    except NotSignedIn as error:
        return str(error)


# Signing up


def test_no_account_is_there_before_the_letter_was_answered(office: Office) -> None:
    sign_up.ask(office.ctx, "Gil@Consumer.example", "192.0.2.1")
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Member)) == 2
    [letter] = letters(office.ctx, "gil@consumer.example")
    token = token_in(letter)
    session_token = sign_up.confirm(office.ctx, token, GULLS)
    who = sessions.who(office.ctx, MEMBERS, session_token)
    assert (who.name, who.consumer) == ("Gil Gull", "Gulls")
    with pytest.raises(NotFound):  # good once
        sign_up.confirm(office.ctx, token, SignUpTyped(name="Eve", organisation="Eve", password=PASSWORD))
    assert sessions.sign_in(office.ctx, MEMBERS, "gil@consumer.example", PASSWORD)


def test_asking_answers_the_same_whoever_is_there_and_sends_nobodys_words(office: Office) -> None:
    web = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    with office.ctx.transaction() as session:
        session.execute(delete(Mail))
    answers = [web.post("/portal/api/v1/sign-up", json={"email": e, "name": "Click http://evil.example"})
               for e in ("ferries@consumer.example", "nobody@consumer.example", INES)]  # fmt: skip
    assert len({(a.status_code, a.content, tuple(sorted(a.headers.items()))) for a in answers}) == 1
    forgotten = [web.post("/portal/api/v1/session/forgotten", json={"email": e})
                 for e in ("kayaks@consumer.example", "unknown@consumer.example")]  # fmt: skip
    assert [a.status_code for a in forgotten] == [204, 204]
    with office.ctx.transaction() as session:
        sent = {m.recipient: m.body for m in session.scalars(select(Mail))}
    assert "which has one already" in sent["ferries@consumer.example"]
    assert "/portal/confirm#" in sent["nobody@consumer.example"] and "/portal/confirm#" in sent[INES]
    assert "unknown@consumer.example" not in sent and "/portal/reset#" in sent["kayaks@consumer.example"]
    assert not any("evil" in body for body in sent.values())


def test_a_letter_too_old_or_overtaken_makes_no_account(office: Office) -> None:
    sign_up.ask(office.ctx, "gil@consumer.example")
    sign_up.ask(office.ctx, "gil@consumer.example")
    first, second = (token_in(m) for m in letters(office.ctx, "gil@consumer.example"))
    with pytest.raises(NotFound):
        sign_up.confirm(office.ctx, first, GULLS)
    office.clock.forward(hours=24)
    with pytest.raises(NotFound):
        sign_up.confirm(office.ctx, second, GULLS)
    upkeep.forget_counts(office.ctx)
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(AwaitedSignUp)) == 0


def test_a_taken_organisation_is_told_to_who_has_the_letter_who_may_choose_another(office: Office) -> None:
    sign_up.ask(office.ctx, "gil@consumer.example")
    token = token_in(letters(office.ctx, "gil@consumer.example")[0])
    with pytest.raises(Conflict) as taken:
        sign_up.confirm(office.ctx, token, SignUpTyped(name="Gil", organisation="ferries", password=PASSWORD))
    assert taken.value.where == "organisation"
    assert sign_up.confirm(office.ctx, token, GULLS)
    sign_up.ask(office.ctx, "eve@consumer.example")
    token = token_in(letters(office.ctx, "eve@consumer.example")[0])
    taken_too = SignUpTyped(name="Eve", organisation="Kayaks", password=PASSWORD)
    for _ in range(5):
        with pytest.raises(Conflict):
            sign_up.confirm(office.ctx, token, taken_too)
    with pytest.raises(TooMany):  # who would try out names waits
        sign_up.confirm(office.ctx, token, taken_too)


def test_one_letter_answered_twice_at_once_makes_one_account(office: Office) -> None:
    sign_up.ask(office.ctx, "gil@consumer.example")
    token = token_in(letters(office.ctx, "gil@consumer.example")[0])
    gate = Barrier(4)

    def one(n: int) -> str:
        gate.wait()
        try:
            sign_up.confirm(office.ctx, token, SignUpTyped(name="G", organisation=f"Gulls {n}", password=PASSWORD))
        except (NotFound, Conflict) as error:
            return error.__class__.__name__
        return "made"

    with ThreadPoolExecutor(4) as pool:
        assert list(pool.map(one, range(4))).count("made") == 1
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Consumer)) == 3


def test_nobody_fills_a_mailbox_with_letters(office: Office) -> None:
    for work in (sign_up.ask, lambda ctx, e, a: passwords.forgotten(ctx, MEMBERS, e, a)):
        office.clock.forward(days=2)
        for n in range(3):
            work(office.ctx, "kayaks@consumer.example", f"192.0.2.{n}")
        with pytest.raises(TooMany):
            work(office.ctx, "kayaks@consumer.example", "192.0.2.9")
    for n in range(20):
        sign_up.ask(office.ctx, f"n{n}@consumer.example", "198.51.100.1")
    with pytest.raises(TooMany) as refused:
        sign_up.ask(office.ctx, "n@consumer.example", "198.51.100.1")
    assert refused.value.wait > 60


# Passwords and sessions


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
    assert (
        sessions.who(office.ctx, PEOPLE, old).name == "nobody"
        and sessions.who(office.ctx, PEOPLE, new).role == "product manager"
    )
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


# Service tokens


def test_a_token_does_what_its_owner_may_do_and_no_more(office: Office) -> None:
    made = {role: service_tokens.make(signed_in(office, f"{role.split()[0]}@test.example"), role) for role in ROLES}
    assert {role: acts(office, token) for role, token in made.items()} == {role: role for role in ROLES}
    script = office.ctx.acting(service_tokens.who_by(office.ctx, made["product manager"]))
    with pytest.raises(NotAllowed):  # a script makes no other
        service_tokens.make(script, "another")
    with pytest.raises(NotSignedIn):
        service_tokens.make(office.acting(office.consumers[0]), "a member's")
    with office.ctx.transaction() as session:
        session.scalars(select(Person).where(Person.email == "finance@test.example")).one().role = "reviewer"
    assert acts(office, made["finance"]) == "the service token can do no more than its owner, who is no finance now"


def test_a_token_is_revoked_at_once_by_its_owner_or_a_product_manager(office: Office) -> None:
    finance, rui, ines = (signed_in(office, f"{n}@test.example") for n in ("finance", "reviewer", "product"))
    first, second = service_tokens.make(finance, "ledger"), service_tokens.make(finance, "other")
    ids = {t.label: t.id for t in service_tokens.everything(finance)}
    assert service_tokens.everything(rui) == []
    assert {t.label: t.mine for t in service_tokens.everything(ines)} == {"ledger": False, "other": False}
    with pytest.raises(NotFound):
        service_tokens.revoke(rui, ids["ledger"])
    assert acts(office, first) == "finance"
    assert service_tokens.revoke(finance, ids["ledger"]).state == "revoked"
    service_tokens.revoke(ines, ids["other"])
    assert {acts(office, t) for t in (first, second)} == {"the service token was revoked"}


def test_a_token_expires_and_says_so(office: Office) -> None:
    ines = signed_in(office)
    token = service_tokens.make(ines, "for a day", 1)
    for days in (0, -1, 367):
        with pytest.raises(Invalid) as refused:
            service_tokens.make(ines, "x", days)
        assert refused.value.where == "days"
    office.clock.forward(hours=24)
    assert acts(office, token) == "the service token has expired"
    assert service_tokens.everything(ines)[0].state == "expired"


def test_use_from_a_new_place_is_on_the_record_once(office: Office) -> None:
    ines = signed_in(office)
    token = service_tokens.make(ines, "script")
    gate = Barrier(6)

    def one(_: int) -> str:
        gate.wait()
        return acts(office, token, "192.0.2.1")

    with ThreadPoolExecutor(6) as pool:
        assert set(pool.map(one, range(6))) == {"product manager"}
    acts(office, token, "198.51.100.7")
    acts(office, token, "192.0.2.1")
    found = [e.why for e in auditing.entries(office.manager, PageQuery("new place", rows=20)).rows]
    assert found == ["from 198.51.100.7", "from 192.0.2.1"]
    [view] = service_tokens.everything(ines)
    assert (view.used_at, view.used_from, view.places) == (office.clock.now, "192.0.2.1", 2)
    for n in range(places.MOST + 5):  # and is bounded
        acts(office, token, f"203.0.113.{n}")
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(ServiceTokenPlace)) == places.MOST


def test_when_a_token_was_used_is_kept_to_the_minute(office: Office) -> None:
    ines = signed_in(office)
    token = service_tokens.make(ines, "script")
    acts(office, token)
    first = office.clock.now
    office.clock.forward(seconds=59)
    acts(office, token)
    assert service_tokens.everything(ines)[0].used_at == first
    office.clock.forward(seconds=1)
    acts(office, token)
    assert service_tokens.everything(ines)[0].used_at == first + timedelta(minutes=1)


def test_a_confirmed_account_asks_for_access_as_any(office: Office) -> None:
    sign_up.ask(office.ctx, "gil@consumer.example")
    token = sign_up.confirm(office.ctx, token_in(letters(office.ctx, "gil@consumer.example")[0]), GULLS)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))
    assert applications.register(own, "Gull app", "").id
