"""An address is shown to be one's own before anything is made of it."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest
from sqlalchemy import delete, func, select
from starlette.testclient import TestClient

from calm_tariff.core.errors import CalmTariffError, Conflict, NotFound, TooMany
from calm_tariff.services.admit import applications, sign_up
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.settings import Settings
from calm_tariff.store.admit.consumers import AwaitedSignUp, Consumer, Member
from calm_tariff.store.base.record import Mail
from calm_tariff.web import create_app
from tests.office import PASSWORD, Office
from tests.services.accounts import GULLS, INES, letters, token_in


@pytest.mark.parametrize(
    ("changed", "field"),
    [
        ({"email": "(x@b.cc"}, "email"),
        ({"name": "a\nb"}, "name"),
        ({"organisation": "Gulls\u202e"}, "organisation"),
        ({"organisation": "FERRIES"}, "organisation"),
        ({"organisation": "F\u0435rries"}, "organisation"),
        ({"email": "İ" * 150 + "@x.example"}, "email"),
        ({"name": "İ" * 250}, "name"),
    ],
)
def test_signing_up_is_refused_by_the_field_that_is_wrong(office: Office, changed: dict, field: str) -> None:
    typed = {"name": "Gull", "email": "gull@consumer.example", "organisation": "Gulls", "password": PASSWORD, **changed}
    email = typed.pop("email")
    with pytest.raises(CalmTariffError) as refused:
        sign_up.open_account(office.ctx, email, SignUpTyped(**typed))
    assert refused.value.where == field


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
    answers = [
        web.post("/portal/api/v1/sign-up", json={"email": e, "name": "Click http://evil.example"})
        for e in ("ferries@consumer.example", "nobody@consumer.example", INES)
    ]
    assert len({(a.status_code, a.content, tuple(sorted(a.headers.items()))) for a in answers}) == 1
    forgotten = [
        web.post("/portal/api/v1/session/forgotten", json={"email": e})
        for e in ("kayaks@consumer.example", "unknown@consumer.example")
    ]
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
    sign_up.forget(office.ctx)
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


def test_a_confirmed_account_asks_for_access_as_any(office: Office) -> None:
    sign_up.ask(office.ctx, "gil@consumer.example")
    token = sign_up.confirm(office.ctx, token_in(letters(office.ctx, "gil@consumer.example")[0]), GULLS)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))
    assert applications.register(own, "Gull app", "").id
