"""Names and letters that are not what they should be harm nobody but who sends them."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from threading import Barrier
from urllib.parse import parse_qs, urlsplit

import pytest
from aiosmtpd.controller import Controller
from sqlalchemy import select

from calm_tariff.core.errors import CalmTariffError, Conflict, Invalid
from calm_tariff.launch.children import free_port
from calm_tariff.services.admit import applications, groups, requests, sign_up
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing, mailing
from calm_tariff.services.base.context import Actor
from calm_tariff.services.compose import plans, products
from calm_tariff.services.house import service_tokens, sessions
from calm_tariff.services.observe import today
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.store.compose.products import Product
from tests.office import PASSWORD, Office


class Picky:
    """A mail server that refuses one recipient and one content."""

    def __init__(self) -> None:
        self.got: list[str] = []

    async def handle_RCPT(self, server, session, envelope, address, options) -> str:  # noqa: N802
        if address == "refused@consumer.example":
            return "550 nobody here"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server, session, envelope) -> str:  # noqa: N802
        if b"unwelcome" in envelope.content:
            return "554 not such letters"
        self.got += envelope.rcpt_tos
        return "250 OK"


def test_a_letter_that_cannot_be_sent_is_set_aside_and_holds_up_none(office: Office) -> None:
    server = Controller(picky := Picky(), hostname="127.0.0.1", port=free_port())
    server.start()
    try:
        with office.ctx.transaction() as session:
            session.query(Mail).delete()
            for to, subject, body in (
                ("refused@consumer.example", "One", "x"), ("first@consumer.example", "a\nline break", "x"),
                ("second@consumer.example", "Two", "unwelcome"), ("not an address", "Three", "x"),
                ("last@consumer.example", "Four", "x"),
            ):  # fmt: skip
                mailing.write(session, office.ctx, to, subject, body)
        assert mailing.send_waiting(office.ctx, "127.0.0.1", server.port) >= 1
        assert mailing.send_waiting(office.ctx, "127.0.0.1", server.port) == 0  # and none is tried for ever
    finally:
        server.stop()
    assert "last@consumer.example" in picky.got and "refused@consumer.example" not in picky.got
    told = next(i for i in today.today(office.manager).yours if "could not be sent" in i.title)
    words = parse_qs(urlsplit(told.link).query)["words"][0]
    named = auditing.entries(office.manager, PageQuery(words, rows=20)).rows  # where Today leads to
    assert told.title == f"{len(named)} letters could not be sent" and len(named) >= 2
    [refused] = [e for e in named if e.subject == "“One” to refused@consumer.example"]
    assert "550" in refused.why
    office.clock.forward(days=8)
    assert not [i for i in today.today(office.manager).yours if "could not be sent" in i.title]
    with office.ctx.transaction() as session:
        found = {m.subject: (m.sent_at is not None, m.failed or "") for m in session.scalars(select(Mail))}
    assert found["Four"] == (True, "")
    assert not found["One"][0] and "nobody here" in found["One"][1]
    assert not found["a\nline break"][0] and "ValueError" in found["a\nline break"][1]
    assert not found["Two"][0] and "not such letters" in found["Two"][1]


@pytest.mark.parametrize(
    ("changed", "field"),
    [
        ({"email": "(x@b.cc"}, "email"), ({"name": "a\nb"}, "name"), ({"organisation": "Gulls\u202e"}, "organisation"),
        ({"organisation": "FERRIES"}, "organisation"), ({"organisation": "F\u0435rries"}, "organisation"),
        ({"email": "İ" * 150 + "@x.example"}, "email"), ({"name": "İ" * 250}, "name"),
    ],
)  # fmt: skip
def test_signing_up_is_refused_by_the_field_that_is_wrong(office: Office, changed: dict, field: str) -> None:
    typed = {"name": "Gull", "email": "gull@consumer.example", "organisation": "Gulls", "password": PASSWORD, **changed}
    email = typed.pop("email")
    with pytest.raises(CalmTariffError) as refused:
        sign_up.open_account(office.ctx, email, SignUpTyped(**typed))
    assert refused.value.where == field


def test_long_names_can_be_asked_with_and_stand_on_the_record_shortened(office: Office) -> None:
    typed = SignUpTyped(name="N" * 200, organisation="O" * 200, password=PASSWORD)
    token = sign_up.open_account(office.ctx, "long@consumer.example", typed)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))
    application = applications.register(own, "A" * 200, "")
    applications.make_key(own, application.id, "L" * 200)
    asked = requests.ask(own, application.id, office.plans["Ketch"], "What a long name does.", True)
    requests.decide(office.reviewer, asked.id, "granted", "")
    entry = next(e for e in auditing.entries(office.manager, PageQuery()).rows if e.action == "asked for access")
    assert len(entry.subject) == 200 and entry.subject.endswith("…")


def test_invisible_characters_are_refused_wherever_something_is_named(office: Office) -> None:
    one = office.acting(office.consumers[0])
    wrong = "a\u200bb"
    for work, field in (
        (lambda: applications.register(one, wrong, ""), "name"),
        (lambda: applications.make_key(one, office.consumers[0].application, wrong), "label"),
        (lambda: groups.create(office.manager, wrong), "name"),
        (lambda: plans.add(office.manager, office.product, wrong), "name"),
        (lambda: plans.rename(office.manager, office.plans["Ketch"], wrong), "name"),
        (lambda: products.clone(office.manager, office.product, wrong), "name"),
        (lambda: service_tokens.make_for_machine(office.manager, wrong, "finance"), "label"),
    ):
        with pytest.raises(Invalid) as refused:
            work()
        assert refused.value.where == field


def test_a_taken_name_is_told_as_such(office: Office) -> None:
    other = products.clone(office.manager, office.product, "Other")
    with office.ctx.transaction() as session:
        typed = products.typed_of(session.get_one(Product, other.id))
    with pytest.raises(Conflict) as taken:
        products.save(
            office.manager, other.id, other.edition, typed.__class__(**{**_fields(typed), "name": "Harbour Data"})
        )
    assert taken.value.where == "name"
    # What only the database sees is told by the column, and not by what is in it.
    with pytest.raises(Conflict) as twice, office.ctx.transaction() as session:
        session.add(Product(slug="harbour-data", name="X", description="", terms_of_use="", terms_dated=office.ctx.now,
                            access_route="open"))  # fmt: skip
    assert "slug" in twice.value.where and "harbour" not in str(twice.value)
    with pytest.raises(Invalid) as long, office.ctx.transaction() as session:
        session.get_one(Product, other.id).name = "x" * 300
    assert long.value.where == "name"


def _fields(typed) -> dict:
    return {name: getattr(typed, name) for name in typed.__dataclass_fields__}


def test_a_cloned_product_keeps_how_its_callers_prove_who_they_are(office: Office) -> None:
    product = products.one(office.manager, office.product)
    shown = products.CredentialsTyped(["basic", "key"], "X-Tide-Key", "key", True)
    products.set_credentials(office.manager, office.product, product.edition, shown)
    copied = products.clone(office.manager, office.product, "Twin")
    with office.ctx.transaction() as session:
        twin = session.get_one(Product, copied.id)
        assert products.credentials_of(twin) == products.credentials_of(session.get_one(Product, office.product))
        assert len(twin.plans) == 2


def test_of_two_who_ask_at_once_for_one_application_one_is_refused(office: Office) -> None:
    member, application, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    requests.take_back(own, request)
    gate = Barrier(4)

    def ask(n: int) -> str:
        gate.wait()
        try:
            return requests.ask(own, application, office.plans["Ketch"], "What they do, again.", True).state
        except Conflict:
            return "refused"

    with ThreadPoolExecutor(4) as pool:
        assert sorted(pool.map(ask, range(4))) == ["refused"] * 3 + ["waiting"]
    with office.ctx.transaction() as session:
        waiting = select(AccessRequest).where(
            AccessRequest.application_id == application, AccessRequest.state == "waiting"
        )
        assert len(session.scalars(waiting).all()) == 1


def test_two_people_are_told_apart_by_who_they_are_and_a_token_is_none(office: Office) -> None:
    with office.ctx.transaction() as session:
        session.get_one(Product, office.product).access_route = "reviewed twice"
    _, _, request = office.ask("Anglers", "Ketch")
    rui = office.ctx.acting(Actor("Rui", "reviewer", person_id=1))
    namesake = office.ctx.acting(Actor("Rui", "reviewer", person_id=2))
    renamed = office.ctx.acting(Actor("Rui the Second", "reviewer", person_id=1))
    script = office.ctx.acting(Actor("token Rui's own", "reviewer", token_id=7))
    with pytest.raises(Conflict, match="a service token is none"):
        requests.decide(script, request, "granted", "")
    assert requests.decide(rui, request, "granted", "").state == "waiting"
    for again in (rui, renamed, script):
        with pytest.raises(Conflict):
            requests.decide(again, request, "granted", "")
    assert requests.decide(namesake, request, "granted", "").state == "granted"
