"""Closing an account: what it brings with it is said before, and then it is so."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotSignedIn
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import belonging, joining
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.serve import history
from calm_tariff.services.settle import closing
from calm_tariff.services.settle.documents import invoices, issuing
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.admit.subscriptions import Subscription
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import PASSWORD, START, Office, terms
from tests.services.accounts import letters
from tests.services.admit.organisation.test_belonging import as_now
from tests.services.admit.organisation.test_joining import joined, owner


def close(office: Office, ctx: Context | None = None) -> None:
    closing.close(ctx or owner(office), MEMBERS, "Ferries", PASSWORD)


def test_what_it_brings_with_it_is_said_before(office: Office) -> None:
    office.clock.forward(days=3)
    ana = joined(office, "developer")
    second = applications.register(ana, "Second", "")
    asking.ask(ana, second.id, office.plans["Ketch"], "To look at tides.", True)
    credentials.make_key(ana, second.id, "x")
    joining.invite(owner(office), "rui@ferries.example", "owner")
    said = closing.consequences(owner(office))
    assert [(e.offer, e.application, e.last_day) for e in said.subscriptions] == [
        ("Harbour Data · Ketch", "Ferries app", None)
    ]
    assert said.said == [
        "2 keys are good no more.",
        "One request is taken back.",
        "One invitation is taken back.",
        "Ana cannot sign in any more.",
        "Owners and billing members still can, to see usage, calls and invoices.",
        "What was used until now is charged with the invoice for September 2026.",
        "An account that is closed is not opened again, and nobody else can have its name.",
    ]
    with pytest.raises(NotAllowed):
        closing.consequences(ana)


def test_then_it_is_so_and_nothing_of_another_changes(office: Office) -> None:
    ana, eva = joined(office, "developer"), joined(office, "billing", "eva@ferries.example", "Eva")
    second = applications.register(ana, "Second", "")
    asked = asking.ask(ana, second.id, office.plans["Ketch"], "To look at tides.", True)
    joining.invite(owner(office), "rui@ferries.example", "owner")
    signed = {who: sessions.sign_in(office.ctx, MEMBERS, who, PASSWORD) for who in ("ana@ferries.example",)}
    office.clock.forward(hours=1)
    close(office)
    with office.ctx.transaction() as session:
        kept = session.scalars(select(Subscription).order_by(Subscription.id)).all()
        assert [(s.state, s.ended_at) for s in kept] == [("ended", office.ctx.now), ("active", None)]
        assert session.get_one(AccessRequest, asked.id).state == "taken back"
        assert session.get_one(Consumer, eva.actor.consumer_id).closed_at == office.ctx.now
    assert {k.state for a in applications.own(as_now(office, owner(office))) for k in a.keys} <= {"revoked"}
    assert {k.state for k in applications.own(owner(office, 1))[0].keys} == {"active"}
    assert sessions.who(office.ctx, MEMBERS, signed["ana@ferries.example"]).member_id is None
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, MEMBERS, "ana@ferries.example", PASSWORD)
    for who in ("eva@ferries.example", "ferries@consumer.example"):
        assert sessions.who(office.ctx, MEMBERS, sessions.sign_in(office.ctx, MEMBERS, who, PASSWORD)).closed
    assert belonging.organisation(as_now(office, eva)).closed_at == office.ctx.now
    left = as_now(office, owner(office))
    for wrong in (
        lambda: applications.register(left, "again", ""),
        lambda: joining.invite(left, "x@ferries.example", "owner"),
        lambda: asking.ask(left, second.id, office.plans["Ketch"], "To look at tides.", True),
        lambda: close(office, left),
    ):
        with pytest.raises(NotAllowed, match="the account of Ferries is closed"):
            wrong()
    last = letters(office.ctx, "ana@ferries.example")[-1]  # she is told, too
    assert last.subject == "The account of Ferries is closed" and "invoice for September 2026" in last.body


def test_the_last_invoice_comes_after_it_and_is_told_and_seen(office: Office) -> None:
    ferries = office.consumers[0]
    history.take_in(office.ctx, [office.call(ferries, START + timedelta(minutes=n), n) for n in range(30)])
    office.clock.forward(days=2)
    close(office)
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, tzinfo=UTC))
    charging.run(october, date(2026, 9, 1))
    with office.ctx.transaction() as session:
        issuing.issue(october, list(session.scalars(select(Invoice.id))))
    (seen,) = invoices.own(as_now(office, owner(office)))
    whole = invoices.own_one(as_now(office, owner(office)), seen.id)
    # Two days of thirty of 40.00; and all thirty calls, of which one is included in two days.
    assert [(x.kind, x.amount) for x in whole.lines] == [("fee", Decimal("2.67")), ("usage", Decimal("0.11"))]
    assert seen.number in letters(office.ctx, ferries.email)[-1].body
    office.clock.forward(days=60)
    assert not any("invoice for" in said for said in _said(office))


def _said(office: Office) -> list[str]:
    """What would be said of an account in which nothing has been alive for months."""
    with office.ctx.transaction() as session:
        session.get_one(Consumer, owner(office).actor.consumer_id).state = "let in"
    return closing.consequences(owner(office)).said


def test_it_takes_the_name_the_password_and_the_owner(office: Office) -> None:
    ana = joined(office, "developer")
    for name, password, where in (("ferries", PASSWORD, "name"), ("Ferries", "not it", "password")):
        with pytest.raises(Invalid) as wrong:
            closing.close(owner(office), MEMBERS, name, password)
        assert wrong.value.where == where
    with pytest.raises(NotAllowed):
        closing.close(ana, MEMBERS, "Ferries", PASSWORD)
    with office.ctx.transaction() as session:
        assert {c.state for c in session.scalars(select(Consumer))} == {"let in"}


def test_a_plan_that_asks_for_notice_must_end_first(office: Office) -> None:
    office.draft("Ketch", {**terms(), "notice_days": 10})
    office.publish("keep")
    late = office.admit("Gulls", "Ketch")
    own = office.acting(late)
    said = closing.consequences(own)
    assert said.hindered and said.subscriptions[0].last_day == date(2026, 9, 20)
    with pytest.raises(Conflict, match="it takes 10 days' notice"):
        closing.close(own, MEMBERS, "Gulls", PASSWORD)
    with office.ctx.transaction() as session:  # and nothing else was done
        assert session.get_one(Member, late.member.member_id).consumer.state == "let in"
    assert applications.own(own)[0].keys[0].state == "active"
