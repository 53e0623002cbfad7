"""Whose data was erased is nowhere any more, while calls, sums and the record's chain are what they were."""

from __future__ import annotations

import json
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from threading import Barrier

import pytest
from sqlalchemy import select, text

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.payment import Payment
from calm_tariff.services.admit import applications, consumer_notes, credentials, on_behalf, paying, sign_up, suspending
from calm_tariff.services.admit.community import moderation, questions
from calm_tariff.services.admit.desk import asking, conversation, deciding
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.admit.organisation import details, joining
from calm_tariff.services.admit.organisation.details import Details, Reference
from calm_tariff.services.admit.organisation.joining import Joining
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house import record
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.services.observe import alerts, erasing, merging
from calm_tariff.services.observe.alerts import AlertTyped
from calm_tariff.services.serve import history
from calm_tariff.services.settle import closing
from calm_tariff.services.settle.documents import issuing
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import AuditEntry
from calm_tariff.store.settle.money_documents import Invoice
from calm_tariff.store.tables import metadata
from tests.office import PASSWORD, START, Office
from tests.services.accounts import letters, token_in
from tests.services.admit.organisation.test_joining import first

FATHOM = "Fathom & Field"
PERSONAL = ("fathom & field", "fathom &amp; field", "léonor", "marés", "@fathom.example", "203.0.113.77")


@pytest.fixture
def owner(office: Office) -> Context:
    """An owner of the house."""
    return office.ctx.acting(Actor("Olga", frozenset({"owner"}), person_id=10**6))


def everything(office: Office) -> str:
    """Every value in the database, as it reads, in small letters."""
    with office.ctx.transaction() as session:
        found = []
        for table in metadata.sorted_tables:
            rows = session.execute(select(table)).all()
            found += [json.dumps([table.name, *row], default=str, ensure_ascii=False) for row in rows]
        return "\n".join(found).casefold()


def held_of(office: Office) -> set[str]:
    whole = everything(office)
    return {word for word in PERSONAL if word in whole}


def fathom(office: Office) -> int:
    """The id of an organisation that has done all there is to do."""
    typed = SignUpTyped(name="Léonor Vaz", organisation=FATHOM, password=PASSWORD)
    token = sign_up.open_account(office.ctx, "l@fathom.example", typed)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))
    paying.change(own, Payment(method="transfer", order_number="Léonor 7"))
    joining.invite(own, "m@fathom.example", "developer")
    letter = token_in(letters(office.ctx, "m@fathom.example")[-1])
    answer = Joining(token=letter, name="Tomé Marés", password=PASSWORD)
    token = joining.accept(office.ctx, first(office), answer)
    dev = office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))
    joining.invite(own, "somebody@fathom.example", "billing")
    passwords.forgotten(office.ctx, MEMBERS, "l@fathom.example")
    application = applications.register(dev, "Marés board", "Léonor wants it on the wall.")
    asked = asking.ask(dev, application.id, office.plans["Skiff"], "For Léonor Vaz.", True)
    conversation.say(office.reviewer, asked.id, "Who is Léonor?", inside=True)
    conversation.ask_back(office.reviewer, asked.id, "Who is that?")
    conversation.answer(dev, asked.id, "Ask l@fathom.example.")
    deciding.decide(office.reviewer, asked.id, "granted", "Well, Léonor.")
    key = credentials.make_key(dev, application.id, "Léonor's laptop").key
    on_behalf.make_key(office.manager, application.id, "by hand")
    question = questions.ask(dev, "harbour-data", "Marés: which datum?", "Asks Tomé Marés of Fathom & Field.")
    moderation.answer(office.manager, question.id, "Dear Tomé Marés, chart datum.")
    alerts.make(own, AlertTyped(amount=Decimal(10)))
    consumer = own.actor.own_consumer
    consumer_notes.write(office.reviewer, consumer, "Léonor is kind.")
    suspending.suspend(office.manager, consumer, "Léonor asked.")
    suspending.resume(office.manager, consumer)
    elsewhere = (Reference(system="CRM", reference=FATHOM),)
    about = Details(address="Rua das Marés 1", country="PT", tax_number="501964843", references=elsewhere)
    details.change(office.manager, consumer, about)
    with office.ctx.transaction() as session:
        query = select(Stay).join(Subscription, Subscription.id == Stay.subscription_id)
        stay = session.scalars(query.where(Subscription.application_id == application.id)).one()
    mine = {
        "subscription_id": stay.subscription_id,
        "stay_id": stay.id,
        "revision_id": stay.revision_id,
        "application_id": application.id,
        "consumer_id": consumer,
        "key_id": key.id,
        "sent": {"address": "203.0.113.77", "query": "who=Léonor", "headers": {}},
    }
    like = office.consumers[0]
    history.take_in(office.ctx, [office.call(like, START + timedelta(minutes=n), n, **mine) for n in range(40)])
    return consumer


def closed(office: Office, consumer: int) -> None:
    office.clock.forward(days=2)
    closing.close_for(office.manager, consumer, FATHOM)
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, tzinfo=UTC))
    charging.run(october, date(2026, 9, 1))
    with office.ctx.transaction() as session:
        issuing.issue(october, list(session.scalars(select(Invoice.id))))
    office.clock.now = datetime(2026, 10, 3, tzinfo=UTC)


def test_an_organisation_is_found_nowhere_any_more_and_its_sums_stay(office: Office, owner: Context) -> None:
    consumer = fathom(office)
    closed(office, consumer)
    assert held_of(office) == set(PERSONAL)
    with office.ctx.transaction() as session:
        sums = session.execute(select(Invoice.id, Invoice.number, Invoice.total, Invoice.subtotal)).all()
        calls = session.execute(text("select count(*), sum(status) from `call`")).one()
        others = session.scalars(select(Member.name).where(Member.consumer_id != consumer)).all()
    view = erasing.of_consumer(owner, consumer)
    assert view.hindered == [] and "One invoice stays, under another name, with the same lines and sums." in view.stays
    erasing.erase_consumer(owner, consumer, FATHOM)
    assert held_of(office) == set()
    with office.ctx.transaction() as session:
        assert session.execute(select(Invoice.id, Invoice.number, Invoice.total, Invoice.subtotal)).all() == sums
        assert session.execute(text("select count(*), sum(status) from `call`")).one() == calls
        assert session.scalars(select(Member.name).where(Member.consumer_id != consumer)).all() == others
        there = session.get_one(Consumer, consumer)
        assert (there.name, there.erased_at) == (f"erased consumer {consumer}", office.ctx.now)
    proof = record.proof(owner)
    assert proof.wrong == "" and proof.erased > 10
    (entry,) = auditing.entries(
        owner, PageQuery(), EntryFilter(action="erased the personal data of an organisation")
    ).rows
    assert entry.subject == f"erased consumer {consumer}"
    with pytest.raises(Conflict, match="It is erased already"):
        erasing.erase_consumer(owner, consumer, f"erased consumer {consumer}")
    with pytest.raises(Conflict, match="its data was erased"):
        details.change(office.manager, consumer, Details())


def test_one_that_was_merged_is_found_nowhere_and_whoever_goes_on_loses_nothing_of_theirs(
    office: Office, owner: Context
) -> None:
    consumer, ferries = fathom(office), office.consumers[0].member.own_consumer
    applications.register(office.acting(office.consumers[0]), "Marés board")
    merging.merge(office.manager, consumer, ferries, FATHOM)
    assert erasing.of_consumer(owner, consumer).hindered == []  # the month it came in is charged to the other
    with office.ctx.transaction() as session:
        members = session.scalars(select(Member.name).where(Member.consumer_id == ferries)).all()
    erasing.erase_consumer(owner, consumer, FATHOM)
    whole = everything(office)
    assert "fathom &" not in whole and "who=léonor" not in whole
    with office.ctx.transaction() as session:
        assert session.scalars(select(Member.name).where(Member.consumer_id == ferries)).all() == members
        named = session.scalars(select(Application.name).where(Application.consumer_id == ferries)).all()
    assert sorted(named) == ["Ferries app", "Marés board", "Marés board (2)"]
    assert record.proof(owner).wrong == ""


def test_what_hinders_is_said_and_nothing_is_erased_before(office: Office, owner: Context) -> None:
    consumer = fathom(office)
    before = everything(office)
    assert erasing.of_consumer(owner, consumer).hindered == ["Its account is not closed."]
    with pytest.raises(Conflict, match="Its account is not closed"):
        erasing.erase_consumer(owner, consumer, FATHOM)
    assert everything(office) == before
    office.clock.forward(days=2)
    closing.close_for(office.manager, consumer, FATHOM)
    uncharged = "September 2026, the last month it is charged for, is not charged yet."
    assert erasing.of_consumer(owner, consumer).hindered == [uncharged]
    october = replace(office.finance, clock=lambda: datetime(2026, 10, 2, tzinfo=UTC))
    charging.run(october, date(2026, 9, 1))
    assert erasing.of_consumer(owner, consumer).hindered == ["Its invoice for September 2026 is a draft."]
    with pytest.raises(Invalid, match="type the name as it is: Fathom & Field"):
        erasing.erase_consumer(owner, consumer, "fathom")


def test_a_member_is_found_nowhere_any_more_and_the_organisation_goes_on(office: Office, owner: Context) -> None:
    consumer = fathom(office)
    with office.ctx.transaction() as session:
        tome = session.scalars(select(Member).where(Member.email == "m@fathom.example")).one().id
        leonor = session.scalars(select(Member).where(Member.email == "l@fathom.example")).one().id
    assert erasing.of_member(owner, leonor).hindered == ["Nobody else owns the account of Fathom & Field."]
    erasing.erase_member(owner, tome, "Tomé Marés")
    whole = everything(office)
    assert "tomé marés" not in whole and "m@fathom.example" not in whole
    assert "léonor vaz" in whole and "l@fathom.example" in whole and "marés board" in whole
    assert record.proof(owner).wrong == ""
    with office.ctx.transaction() as session:
        there = session.get_one(Member, tome)
        assert (there.name, there.left_at) == (f"erased member {tome}", office.ctx.now)
        assert session.get_one(Consumer, consumer).state == "let in"
    with pytest.raises(NotSignedIn):
        sessions.sign_in(office.ctx, MEMBERS, "m@fathom.example", PASSWORD)


def test_who_is_called_alike_keeps_their_name(office: Office, owner: Context) -> None:
    consumer = fathom(office)
    alike = SignUpTyped(name="Léonor Vaz", organisation="Quay", password=PASSWORD)
    sign_up.open_account(office.ctx, "l@quay.example", alike)
    office.ctx.clock.now += timedelta(minutes=1)
    closed(office, consumer)
    erasing.erase_consumer(owner, consumer, FATHOM)
    with office.ctx.transaction() as session:
        other = session.scalars(select(Member).where(Member.email == "l@quay.example")).one()
        assert other.name == "Léonor Vaz"
        signed_up = select(AuditEntry.actor).where(AuditEntry.by == f"member {other.id}")
        assert "Léonor Vaz, Quay" in session.scalars(signed_up).all()
    assert held_of(office) == {"léonor"}


def test_nobody_but_an_owner_of_the_house_erases(office: Office) -> None:
    consumer = office.consumers[0].member.consumer_id
    for other in (office.manager, office.reviewer, office.finance, office.acting(office.consumers[0])):
        for act in (
            lambda ctx: erasing.of_consumer(ctx, consumer),
            lambda ctx: erasing.erase_consumer(ctx, consumer, "Ferries"),
            lambda ctx: erasing.of_member(ctx, 1),
            lambda ctx: erasing.erase_member(ctx, 1, "x"),
        ):
            with pytest.raises(NotSignedIn if other.actor.member_id else NotAllowed):
                act(other)


def test_what_is_not_there_is_told(owner: Context) -> None:
    for act in (erasing.of_consumer, erasing.of_member):
        with pytest.raises(NotFound):
            act(owner, 10**9)


def test_of_two_owners_erased_at_once_one_stays(office: Office, owner: Context) -> None:
    consumer = office.consumers[0].member.own_consumer
    second = on_behalf.make_member(office.manager, consumer, "Ana Vaz", "ana@ferries.example", "owner")
    both, ready = {office.consumers[0].member.member_id or 0: "Ferries owner", second: "Ana Vaz"}, Barrier(2)

    def erase(member: int) -> str:
        ready.wait()
        try:
            erasing.erase_member(owner, member, both[member])
        except Conflict as refused:
            return refused.what
        return "erased"

    with ThreadPoolExecutor(2) as pool:
        came = sorted(pool.map(erase, both))
    assert came == ["Nobody else owns the account of Ferries.", "erased"]
    with office.ctx.transaction() as session:
        left = session.scalars(select(Member).where(Member.consumer_id == consumer, Member.left_at.is_(None))).all()
    assert [(m.role, m.erased_at) for m in left] == [("owner", None)]
