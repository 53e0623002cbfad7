"""Roles change, ownership is handed over, and who leaves is gone at once: but for what they did."""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import UTC, date, datetime

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.services.admit import applications, credentials
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import belonging
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.base.record import Mail
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import PASSWORD, Office
from tests.services.accounts import letters
from tests.services.admit.organisation.test_joining import ANA, joined, owner

OWNER = "ferries@consumer.example"


def as_now(office: Office, ctx: Context) -> Context:
    """Somebody as their next request finds them."""
    with office.ctx.transaction() as session:
        return office.ctx.acting(MEMBERS.acting(session.get_one(Member, ctx.actor.member_id)))


def roles(office: Office, ctx: Context) -> dict[str, str]:
    return {m.name: m.role for m in belonging.organisation(ctx).members}


def test_a_role_changes_what_one_may_at_once_and_is_told(office: Office) -> None:
    ana = joined(office, "developer")
    assert applications.own(ana)[0].keys
    belonging.set_role(owner(office), ana.actor.member_id or 0, "billing")
    ana = as_now(office, ana)
    assert applications.own(ana)[0].keys == [] and applications.own(owner(office))[0].keys
    with pytest.raises(NotAllowed, match="you belong to it as billing"):
        applications.register(ana, "mine", "")
    last = letters(office.ctx, ANA)[-1]
    assert last.subject == "You belong to Ferries as billing now" and "Sees invoices" in last.body
    belonging.set_role(owner(office), ana.actor.member_id or 0, "billing")  # as it is
    assert letters(office.ctx, ANA)[-1].id == last.id


def test_ownership_is_handed_over_in_one_step(office: Office) -> None:
    ana, was = joined(office, "billing"), owner(office)
    with pytest.raises(Conflict, match="somebody must own the account"):
        belonging.set_role(was, was.actor.member_id or 0, "developer")
    with pytest.raises(Invalid):
        belonging.hand_over(was, was.actor.member_id or 0)
    belonging.hand_over(was, ana.actor.member_id or 0)
    assert roles(office, as_now(office, ana)) == {"Ferries owner": "developer", "Ana": "owner"}
    with pytest.raises(NotAllowed):
        belonging.hand_over(as_now(office, was), was.actor.member_id or 0)


def test_who_is_removed_is_out_at_once_and_their_address_is_free(office: Office) -> None:
    ana = joined(office, "developer")
    session_of = sessions.sign_in(office.ctx, MEMBERS, ANA, PASSWORD)
    made = credentials.make_key(ana, office.consumers[0].application, "Ana's")
    passwords.forgotten(office.ctx, MEMBERS, ANA)
    after = belonging.remove(owner(office), ana.actor.member_id or 0)
    assert after is None and sessions.who(office.ctx, MEMBERS, session_of).member_id is None
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, MEMBERS, ANA, PASSWORD)
    assert roles(office, owner(office)) == {"Ferries owner": "owner"}
    (kept,) = (k for k in applications.own(owner(office))[0].keys if k.id == made.key.id)
    assert kept.state == "active"  # programs go on; whoever is told may revoke it
    assert "Revoke those that they may still have" in letters(office.ctx, OWNER)[-1].body
    again = joined(office, "billing", name="Ana again")
    assert again.actor.member_id != ana.actor.member_id


def test_one_leaves_by_oneself_but_not_as_the_only_owner(office: Office) -> None:
    ana = joined(office, "owner")
    belonging.leave(ana)
    with pytest.raises(Conflict, match="somebody must own the account"):
        belonging.leave(owner(office))
    assert letters(office.ctx, OWNER)[-1].subject == "Ana does not belong to Ferries any more"


def test_two_owners_who_leave_at_the_same_moment_do_not_both(office: Office) -> None:
    both = [owner(office), joined(office, "owner")]
    outcomes: list[str] = []
    ready = threading.Barrier(2)

    def go(ctx: Context) -> None:
        ready.wait()
        try:
            belonging.leave(ctx)
            outcomes.append("left")
        except Conflict:
            outcomes.append("stays")

    threads = [threading.Thread(target=go, args=(ctx,)) for ctx in both]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert sorted(outcomes) == ["left", "stays"]


def test_another_organisations_members_are_nobody(office: Office) -> None:
    theirs = office.consumers[1].member.member_id or 0
    mine = owner(office)
    for wrong in (
        lambda: belonging.set_role(mine, theirs, "billing"),
        lambda: belonging.remove(mine, theirs),
        lambda: belonging.hand_over(mine, theirs),
    ):
        with pytest.raises(NotFound, match="nobody of this organisation is that"):
            wrong()
    assert roles(office, owner(office, 1)) == {"Kayaks owner": "owner"}


def test_an_answer_to_who_has_left_goes_to_those_who_can_act_on_it(office: Office) -> None:
    ana = joined(office, "developer")
    application = applications.register(ana, "Ana's app", "").id
    asked = asking.ask(ana, application, office.plans["Ketch"], "To look at tides.", True)
    eva = joined(office, "billing", "eva@ferries.example", "Eva")
    belonging.leave(ana)
    deciding.decide(office.reviewer, asked.id, "granted", "")
    assert "granted" in letters(office.ctx, OWNER)[-1].subject
    assert all("granted" not in m.subject for m in letters(office.ctx, "eva@ferries.example"))
    assert eva.actor.membership == "billing"
    with office.ctx.transaction() as session:  # what they did stays under their name
        assert session.get_one(Member, ana.actor.member_id).name == "Ana"


def test_invoices_are_told_to_owners_and_billing_alone(office: Office) -> None:
    joined(office, "developer")
    joined(office, "billing", "eva@ferries.example", "Eva")
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, tzinfo=UTC))
    charging.run(october, date(2026, 9, 1))
    with office.ctx.transaction() as session:
        issuing.issue(october, list(session.scalars(select(Invoice.id))))
    with office.ctx.transaction() as session:
        told = session.scalars(select(Mail.recipient).where(Mail.subject.contains("nvoice"))).all()
    assert {to for to in told if "ferries" in to} == {OWNER, "eva@ferries.example"}
