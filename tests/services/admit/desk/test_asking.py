"""Requests are decided once, by whom the product says."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from threading import Barrier

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed
from calm_tariff.core.routes import Route
from calm_tariff.formats.values import write
from calm_tariff.services.admit import applications, credentials, sign_up
from calm_tariff.services.admit.desk import asking, deciding, outside_decisions, queue
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.store.compose.products import Product
from tests.office import BY_TRANSFER, PASSWORD, Office


def test_a_request_is_decided_once_with_a_note_by_mail_and_on_the_record(office: Office) -> None:
    member, application, request = office.ask("Anglers", "Ketch")
    with pytest.raises(NotAllowed):
        deciding.decide(office.finance, request, "granted", "")
    with pytest.raises(Invalid, match="say why"):
        deciding.decide(office.reviewer, request, "declined", " ")
    with pytest.raises(Conflict, match="already waiting"):
        asking.ask(office.ctx.acting(member), application, office.plans["Skiff"], "Something else.", True)
    deciding.decide(office.reviewer, request, "declined", "Name the source, please.")
    with pytest.raises(Conflict, match="it is declined"):
        deciding.decide(office.reviewer, request, "granted", "")
    with office.ctx.transaction() as session:
        letter = session.scalars(select(Mail).order_by(Mail.id.desc())).first()
    assert letter
    assert (letter.recipient, "Name the source, please." in letter.body) == ("anglers@consumer.example", True)
    assert [p.state for p in applications.own(office.ctx.acting(member))[0].plans] == ["waiting"]  # it may be undone
    office.clock.forward(minutes=1)
    assert [p.state for p in applications.own(office.ctx.acting(member))[0].plans] == ["declined"]


def test_two_people_decide_where_a_product_is_reviewed_twice_and_nobody_here_where_outside(office: Office) -> None:
    office.change_product(route=Route(otherwise="reviewed twice"))
    _, _, request = office.ask("Anglers", "Ketch")
    assert deciding.decide(office.reviewer, request, "granted", "fine").state == "waiting"
    with pytest.raises(Conflict, match="a second person"):
        deciding.decide(office.reviewer, request, "granted", "")
    done = deciding.decide(office.manager, request, "granted", "")
    assert (done.state, [a.name for a in done.agreed], done.decided_by) == ("granted", ["Rui", "Ines"], "Ines")
    office.change_product(route=Route(otherwise="outside"))
    _, _, request = office.ask("Divers", "Ketch")
    with pytest.raises(Conflict, match="outside system"):
        deciding.decide(office.reviewer, request, "granted", "")
    passed = outside_decisions.passed(office.ctx, request)
    assert passed is not None and passed.ticket is None
    outside_decisions.keep_ticket(office.ctx, request, "1000")
    outside_decisions.decide_outside(office.ctx, request, "declined", "No capacity.")
    assert outside_decisions.passed(office.ctx, request) is None


def test_long_names_can_be_asked_with_and_stand_on_the_record_shortened(office: Office) -> None:
    typed = SignUpTyped(name="N" * 200, organisation="O" * 200, password=PASSWORD)
    token = sign_up.open_account(office.ctx, "long@consumer.example", typed)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))
    application = applications.register(own, "A" * 200, "")
    credentials.make_key(own, application.id, "L" * 200)
    asked = asking.ask(own, application.id, office.plans["Ketch"], "What a long name does.", True, payment=BY_TRANSFER)
    deciding.decide(office.reviewer, asked.id, "granted", "")
    entry = next(e for e in auditing.entries(office.manager, PageQuery()).rows if e.action == "asked for access")
    assert len(entry.subject) == 200 and entry.subject.endswith("…")


def test_of_two_who_ask_at_once_for_one_application_one_is_refused(office: Office) -> None:
    member, application, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    asking.take_back(own, request)
    gate = Barrier(4)

    def ask(n: int) -> str:
        gate.wait()
        try:
            return asking.ask(own, application, office.plans["Ketch"], "What they do, again.", True).state
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
        session.get_one(Product, office.product).route = write(Route(otherwise="reviewed twice"))
    _, _, request = office.ask("Anglers", "Ketch")
    rui = office.ctx.acting(Actor("Rui", frozenset({"reviewer"}), person_id=1))
    namesake = office.ctx.acting(Actor("Rui", frozenset({"reviewer"}), person_id=2))
    renamed = office.ctx.acting(Actor("Rui the Second", frozenset({"reviewer"}), person_id=1))
    script = office.ctx.acting(Actor("token Rui's own", frozenset({"reviewer"}), token_id=7))
    with pytest.raises(Conflict, match="a service token is none"):
        deciding.decide(script, request, "granted", "")
    assert deciding.decide(rui, request, "granted", "").state == "waiting"
    for again in (rui, renamed, script):
        with pytest.raises(Conflict):
            deciding.decide(again, request, "granted", "")
    assert deciding.decide(namesake, request, "granted", "").state == "granted"


@pytest.mark.parametrize(
    ("expected", "where"),
    [
        ({"nothing": Decimal(1)}, "expected"),
        ({"forecast_calls": Decimal(-1)}, "expected.forecast_calls"),
        ({"forecast_calls": Decimal("NaN")}, "expected.forecast_calls"),
        ({"forecast_calls": Decimal(10) ** 13}, "expected.forecast_calls"),
    ],
)
def test_an_expectation_that_means_nothing_asks_for_nothing(
    office: Office, expected: dict[str, Decimal], where: str
) -> None:
    own = office.acting(office.consumers[0])
    application = applications.register(own, "Second").id
    with pytest.raises(Invalid) as refused:
        asking.ask(own, application, office.plans["Ketch"], "Many forecasts.", True, expected=expected)
    assert refused.value.where == where
    assert [r.application for r in queue.desk(office.reviewer, PageQuery()).rows] == []


def test_what_asks_to_move_a_subscription_that_has_ended_waits_no_more(office: Office) -> None:
    ferries, kayaks = office.consumers
    for one in (ferries, kayaks):
        wanted = MoveAsked(
            kind="change plan", when="now", plan_id=office.plans["Skiff"], purpose="Less is enough for us."
        )
        assert asking.ask_to_move(office.acting(one), one.subscription, wanted) is not None
    assert asking.end_those_without_a_subscription(office.ctx) == 0
    asking.ask_to_move(office.acting(ferries), ferries.subscription, MoveAsked(kind="end"))
    assert asking.end_those_without_a_subscription(office.ctx) == 1
    with office.ctx.transaction() as session:
        moving = session.scalars(select(AccessRequest).where(AccessRequest.moves_id.is_not(None))).all()
        assert {(r.moves_id, r.state) for r in moving} == {
            (ferries.subscription, "taken back"),
            (kayaks.subscription, "waiting"),
        }
    assert asking.end_those_without_a_subscription(office.ctx) == 0
