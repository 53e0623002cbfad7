"""Two organisations become one: all that goes on is the other's, nothing is charged twice or lost, and nobody else sees
any of it."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from functools import partial

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.admit import applications, consumer_notes, credentials, groups, looking, paying, suspending
from calm_tariff.services.admit.community import ratings
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import details, joining
from calm_tariff.services.admit.organisation.details import Details, Reference
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.observe import alerts, consumers, erasing, handing_out, merging, own_usage, traffic
from calm_tariff.services.observe.alerts import AlertTyped
from calm_tariff.services.observe.own_usage import UsageWanted
from calm_tariff.services.serve import history, receipts, standing
from calm_tariff.services.settle.documents import invoices, issuing
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer, Member, MemberInvitation
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.settle.money_documents import Invoice
from tests.office import PASSWORD, START, Office
from tests.services.accounts import letters, signed_in
from tests.services.admit.organisation.test_joining import first, joined
from tests.services.months import at_once

SEPTEMBER, OCTOBER = date(2026, 9, 1), date(2026, 10, 1)


def ids(office: Office) -> tuple[int, int]:
    """Ferries, which goes on, and Kayaks, which is merged into it."""
    return tuple(c.member.own_consumer for c in office.consumers)  # type: ignore[return-value]


def merge(office: Office, name: str = "Kayaks") -> None:
    ferries, kayaks = ids(office)
    merging.merge(office.manager, kayaks, ferries, name)


def now(office: Office, email: str) -> Context:
    """Whoever signs in by an address, as they are now."""
    return office.ctx.acting(sessions.who(office.ctx, MEMBERS, sessions.sign_in(office.ctx, MEMBERS, email, PASSWORD)))


def calls(office: Office, ferries: int, kayaks: int, first: int = 0) -> None:
    """So many calls of each, a minute apart."""
    made = [(office.consumers[0], n) for n in range(ferries)] + [(office.consumers[1], n) for n in range(kayaks)]
    at = office.clock.now
    history.take_in(
        office.ctx,
        [office.call(whose, at + timedelta(minutes=n), first + place) for place, (whose, n) in enumerate(made)],
    )


def at(office: Office, moment: datetime) -> Context:
    return replace(office.finance, clock=lambda: moment)


def test_what_it_brings_with_it_is_said_before(office: Office) -> None:
    ferries, kayaks = ids(office)
    with office.ctx.transaction() as session:
        session.get_one(Application, office.consumers[1].application).name = "Ferries app"
    said = merging.consequences(office.manager, kayaks, ferries)
    assert (said.name, said.into, said.hindered) == ("Kayaks", "Ferries", [])
    assert said.said == [
        "Kayaks owner belongs to Ferries from then on, as a developer.",
        "One application goes over with keys, subscriptions and requests; calls go on as before.",
        "“Ferries app” is called “Ferries app (2)” there.",
        "Groups, notes, alerts, accepted terms and invitations go over where the other has none of the kind.",
        "September 2026 is charged to Ferries for both; the months before it, to each for itself.",
        "The account of Kayaks is closed. Nothing parts the two again, and nobody else can have its name.",
    ]
    with pytest.raises(NotAllowed):
        merging.consequences(office.reviewer, kayaks, ferries)
    with pytest.raises(NotFound):
        merging.consequences(office.manager, kayaks, 10**6)


def test_nothing_happens_where_it_must_not(office: Office) -> None:
    ferries, kayaks = ids(office)
    with pytest.raises(Invalid, match="type the name as it is: Kayaks"):
        merge(office, "Ferries")
    with pytest.raises(NotAllowed):
        merging.merge(office.reviewer, kayaks, ferries, "Kayaks")
    with pytest.raises(Conflict, match="not merged into itself"):
        merging.merge(office.manager, kayaks, kayaks, "Kayaks")
    suspending.suspend(office.manager, ferries, "Not paid.")
    assert merging.consequences(office.manager, kayaks, ferries).hindered == [
        "Calls of Ferries are suspended; resume them first."
    ]
    with pytest.raises(Conflict, match="resume them first"):
        merge(office)
    with office.ctx.transaction() as session:
        assert session.get_one(Consumer, kayaks).state == "let in"
        assert session.get_one(Application, office.consumers[1].application).consumer_id == kayaks


def test_members_applications_and_all_that_goes_on_are_the_others(office: Office) -> None:
    ferries, kayaks = ids(office)
    own = office.acting(office.consumers[1])
    dev = joined(office, "developer", "dev@ferries.example", "Dora")
    joining.invite(own, "somebody@kayaks.example", "owner")
    waiting = applications.register(own, "Board")
    applications.register(dev, "Board")
    asked = asking.ask(own, waiting.id, office.plans["Ketch"], "To look at tides.", True)
    alerts.make(own, AlertTyped(amount=Decimal(10)))
    ratings.rate(own, "harbour-data", 4)
    consumer_notes.write(office.reviewer, kayaks, "Kayaks is kind.")
    elsewhere = (Reference(system="CRM", reference="K 7"), Reference(system="ERP", reference="1"))
    details.change(office.manager, kayaks, Details(address="", country="", tax_number="", references=elsewhere))
    there = (Reference(system="ERP", reference="2"),)
    details.change(office.manager, ferries, Details(address="", country="", tax_number="", references=there))
    group = groups.create(office.manager, "Public bodies").id
    groups.set_members(office.manager, group, [kayaks])
    merge(office)

    one, other = consumers.one(office.reviewer, ferries), consumers.one(office.reviewer, kayaks)
    assert [(m.name, m.role) for m in one.members] == [
        ("Ferries owner", "owner"),
        ("Kayaks owner", "developer"),
        ("Dora", "developer"),
    ]
    assert [a.name for a in one.applications] == ["Board", "Board (2)", "Ferries app", "Kayaks app"]
    assert (one.requests[0].id, one.requests[0].state) == (asked.id, "waiting")
    assert [(r.system, r.reference) for r in one.details.references] == [("ERP", "2")]
    assert [r.system for r in other.details.references] == ["CRM", "ERP"]  # by which it is known elsewhere, still
    assert [n.text for n in one.notes] == ["Kayaks is kind."]
    assert [(m.name, m.id) for m in one.merged] == [("Kayaks", kayaks)]
    assert other.merged_into and (other.merged_into.name, other.line.state) == ("Ferries", "closed")
    assert (other.members, other.applications, other.requests) == ([], [], [])
    assert one.record[0].action == "took another organisation in"
    assert other.record[0].action == "merged an organisation into another"
    (held,) = (g for g in groups.everything(office.manager) if g.id == group)
    assert held.consumers == ["Ferries"]

    as_owner, as_other = now(office, "ferries@consumer.example"), now(office, "kayaks@consumer.example")
    assert (as_other.actor.own_consumer, as_other.actor.membership) == (ferries, "developer")
    assert [a.id for a in applications.own(as_other)] == [a.id for a in one.applications]
    assert len(alerts.own(as_owner).alerts) == 1
    assert credentials.make_key(as_owner, waiting.id, "new").key.id
    assert deciding.decide(office.reviewer, asked.id, "granted", "").state == "granted"
    with office.ctx.transaction() as session:
        found = session.scalars(select(MemberInvitation).where(MemberInvitation.consumer_id == ferries)).one()
        assert (found.email, found.role) == ("somebody@kayaks.example", "developer")
    for email in ("ferries@consumer.example", "kayaks@consumer.example", "dev@ferries.example"):
        assert [x.subject for x in letters(office.ctx, email)].count("Kayaks is part of Ferries") == 1


def test_whoever_was_about_to_do_something_as_the_other_is_told(office: Office) -> None:
    own = office.acting(office.consumers[1])
    seen_by_us = looking.ask(signed_in(office), ids(office)[1])
    merge(office)
    with pytest.raises(Conflict, match="closed meanwhile"):
        applications.register(own, "Board")
    with pytest.raises(NotFound):
        applications.change(own, office.consumers[1].application, "x", "", "live", "")
    with pytest.raises(NotFound):
        looking.begin(office.ctx, first(office), seen_by_us.address.partition("#")[2])
    with pytest.raises(Conflict, match="The account of Kayaks is not open"):
        merge(office)


def test_its_calls_and_receipts_are_the_others_and_nobody_elses(office: Office) -> None:
    ferries, _ = ids(office)
    gulls = office.admit("Gulls", "Ketch").member
    calls(office, 3, 5)
    merge(office)
    calls(office, 0, 2, first=100)  # shipped late by a gateway that did not know of it
    mine = now(office, "ferries@consumer.example")
    page = traffic.own_log(mine, CallFilter())
    assert page.total == len(page.rows) == 10
    assert [row.at for row in page.rows] == sorted((row.at for row in page.rows), reverse=True)
    newest = traffic.own_log(mine, CallFilter(), rows=4)
    rest = traffic.own_log(mine, CallFilter(), newest.next, rows=20)
    assert [*newest.rows, *rest.rows] == page.rows
    served = traffic.own_log(mine, CallFilter(verdict="served", application_id=office.consumers[1].application))
    assert served.total == len(served.rows) == 7
    usage = own_usage.usage(mine, UsageWanted())
    assert (usage.served, sorted(p.served for p in usage.applications)) == (10, [3, 7])
    assert receipts.own_receipt(mine, page.rows[0].call_id)
    with pytest.raises(NotFound):
        receipts.own_receipt(office.ctx.acting(gulls), page.rows[0].call_id)
    lines = {line.name: line.served for line in consumers.listed(office.reviewer, PageQuery()).rows}
    assert lines == {"Ferries": 10, "Kayaks": 0, "Gulls": 0}
    assert consumers.one(office.reviewer, ferries).line.served == 10


def test_a_month_is_charged_once_to_whoever_it_is_at_its_end(office: Office) -> None:
    """Whether the charge run is made before the two are merged, or long after."""
    ferries, kayaks = ids(office)
    calls(office, 30, 40)
    office.clock.now = datetime(2026, 10, 5, 12, tzinfo=UTC)
    merge(office)
    calls(office, 1, 25, first=200)
    november = at(office, datetime(2026, 11, 2, tzinfo=UTC))
    charging.run(november, SEPTEMBER)
    with november.transaction() as session:
        made = session.scalars(select(Invoice).where(Invoice.period_start == SEPTEMBER).order_by(Invoice.consumer_id))
        september = {i.consumer_id: (i.subtotal, [line.subscription_id for line in i.lines]) for i in made}
    assert {*september} == {ferries, kayaks}
    assert {*september[kayaks][1]} == {office.consumers[1].subscription}
    issuing.issue(november, periods.one(november, SEPTEMBER, PageQuery()).drafts)
    assert charging.run(november, SEPTEMBER).left_alone == 2
    charging.run(november, OCTOBER)
    with november.transaction() as session:
        only = session.scalars(select(Invoice).where(Invoice.period_start == OCTOBER)).one()
        assert only.consumer_id == ferries
        held = {line.subscription_id for line in only.lines}
        assert held == {c.subscription for c in office.consumers}
    assert periods.one(november, OCTOBER, PageQuery()).late == []

    # Whoever sees the money of the one sees the other's invoices, under the other's name, and is told of them.
    mine = now(office, "ferries@consumer.example")
    seen = invoices.own(mine)
    assert [(i.consumer, i.period_start) for i in seen] == [("Ferries", SEPTEMBER), ("Kayaks", SEPTEMBER)]
    assert invoices.own_one(mine, seen[1].id).subtotal == september[kayaks][0]
    assert sum("Invoice" in letter.subject for letter in letters(office.ctx, "ferries@consumer.example")) == 2
    gulls = office.ctx.acting(office.join("Gulls"))
    with pytest.raises(NotFound):
        invoices.own_one(gulls, seen[1].id)
    with pytest.raises(NotAllowed):
        invoices.own(now(office, "kayaks@consumer.example"))


def test_a_draft_of_the_running_month_is_not_issued_beside_the_others(office: Office) -> None:
    ferries, kayaks = ids(office)
    calls(office, 30, 40)
    charging.run(office.finance, SEPTEMBER)
    said = merging.consequences(office.manager, kayaks, ferries).said
    assert "2 drafts for it are thrown away; the next charge run makes one anew." in said
    merge(office)
    november = at(office, datetime(2026, 11, 2, tzinfo=UTC))
    assert periods.one(november, SEPTEMBER, PageQuery()).drafts == []
    charging.run(november, SEPTEMBER)
    with november.transaction() as session:
        only = session.scalars(select(Invoice).where(Invoice.period_start == SEPTEMBER)).one()
        assert (only.consumer_id, sum(line.quantity or 0 for line in only.lines if line.kind == "usage")) == (
            ferries,
            70,
        )


def test_who_was_merged_before_goes_along(office: Office) -> None:
    ferries, _ = ids(office)
    gulls = office.admit("Gulls", "Ketch")
    calls(office, 2, 3)
    merge(office)
    office.clock.forward(days=1)
    merging.merge(office.manager, ferries, gulls.member.own_consumer, "Ferries")
    mine = now(office, "gulls@consumer.example")
    assert traffic.own_log(mine, CallFilter()).total == 5
    assert {c.name for c in consumers.one(office.reviewer, gulls.member.own_consumer).merged} == {"Ferries", "Kayaks"}
    with office.ctx.transaction() as session:
        held = standing.quotas(session, office.ctx.now)
        assert {h.consumer_id for h in held} == {gulls.member.own_consumer}


def test_its_data_is_handed_out_with_the_others_and_erased_before_it(office: Office) -> None:
    ferries, kayaks = ids(office)
    calls(office, 2, 3)
    office.clock.now = datetime(2026, 10, 5, 12, tzinfo=UTC)
    merge(office)
    with office.ctx.transaction() as session:
        files = {name: list(lines) for name, lines in handing_out._files(session, ferries)}
    assert sum(n for _, n in files["call"]) == 5 and sum(n for _, n in files["consumer"]) == 2
    owner = office.ctx.acting(Actor("Olga", frozenset({"owner"}), person_id=10**6))
    assert erasing.of_consumer(owner, kayaks).hindered == [
        "September 2026, the last month it is charged for, is not charged yet."
    ]
    charging.run(office.finance, SEPTEMBER)
    assert erasing.of_consumer(owner, kayaks).hindered == ["Its invoice for September 2026 is a draft."]
    issuing.issue(office.finance, periods.one(office.finance, SEPTEMBER, PageQuery()).drafts)
    with office.ctx.transaction() as session:
        session.get_one(Consumer, ferries).state = "closed"
    assert "Kayaks, which was merged into it, is not erased." in erasing.of_consumer(owner, ferries).hindered
    erasing.erase_consumer(owner, kayaks, "Kayaks")
    assert erasing.of_consumer(owner, ferries).hindered == []
    assert traffic.own_log(now(office, "ferries@consumer.example"), CallFilter()).total == 5


def test_of_all_at_once_one_is_merged_and_nothing_is_left_behind(office: Office) -> None:
    """Each into the other, while a member of each registers applications."""
    ferries, kayaks = ids(office)
    deeds = [
        partial(merging.merge, office.manager, kayaks, ferries, "Kayaks"),
        partial(merging.merge, office.manager, ferries, kayaks, "Ferries"),
        *(partial(applications.register, office.acting(c), "Board") for c in office.consumers),
    ]

    def tried(n: int) -> bool:
        try:
            deeds[n]()
        except (Conflict, NotFound):
            return False
        return True

    assert at_once(office.ctx, tried, len(deeds))[:2].count(True) == 1
    with office.ctx.transaction() as session:
        left = session.scalars(select(Consumer).where(Consumer.state == "let in")).one()
        assert {a.consumer_id for a in session.scalars(select(Application))} == {left.id}
        assert {m.consumer_id for m in session.scalars(select(Member))} == {left.id}
        names = list(session.scalars(select(Application.name)))
        assert len(set(names)) == len(names)


def test_one_that_nobody_owns_is_owned_by_whoever_comes(office: Office) -> None:
    with office.ctx.transaction() as session:
        session.get_one(Member, office.consumers[0].member.member_id).left_at = START
        session.get_one(Consumer, ids(office)[0]).payment_method = None  # nor has anybody said how it pays
    merge(office)
    assert now(office, "kayaks@consumer.example").actor.membership == "owner"
    with office.ctx.transaction() as session:
        assert paying.said(session.get_one(Consumer, ids(office)[0])) == "by transfer"
