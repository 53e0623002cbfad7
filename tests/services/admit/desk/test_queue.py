"""Asking for access and weighing it: the desk, what a reviewer is shown, and who may ask for what."""

from dataclasses import replace

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.admit import applications, groups, terms_of_use
from calm_tariff.services.admit.desk import asking, deciding, queue
from calm_tariff.services.admit.desk.queue import Sought
from calm_tariff.services.base import stamps
from calm_tariff.services.compose import products
from calm_tariff.services.compose.sheet import plans
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import Office


def names(office: Office, decided: bool = False, **wanted: object) -> list[str]:
    return [r.consumer for r in queue.desk(office.reviewer, PageQuery(**wanted), Sought(decided=decided)).rows]


def test_who_has_waited_longest_stands_first_and_who_was_decided_last(office: Office) -> None:
    asked, members = {}, {}
    for who in ("Terns", "Gulls", "Auks"):
        office.clock.forward(hours=1)
        members[who], _, asked[who] = office.ask(who, "Skiff")
    assert names(office) == ["Terns", "Gulls", "Auks"]
    assert names(office, sort="consumer") == ["Auks", "Gulls", "Terns"]
    assert names(office, words="GUL") == ["Gulls"] and names(office, words="%") == []
    assert names(office, decided=True) == ["Kayaks", "Ferries"]
    deciding.decide(office.reviewer, asked["Terns"], "declined", "Not for resale.")
    asking.take_back(office.ctx.acting(members["Auks"]), asked["Auks"])
    assert names(office) == ["Gulls"]
    assert sorted(names(office, decided=True)) == ["Auks", "Ferries", "Kayaks", "Terns"]
    first, rest = queue.desk(office.reviewer, PageQuery(rows=1), Sought(decided=True)), []
    cursor = first.next
    while cursor:
        page = queue.desk(office.reviewer, PageQuery(rows=1, cursor=cursor), Sought(decided=True))
        rest += [r.consumer for r in page.rows]
        cursor = page.next
    assert [first.rows[0].consumer, *rest] == names(office, decided=True) and first.total == 4


def test_a_request_says_what_for_and_is_made_once_for_a_product(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    second = applications.register(own, "Second", "").id
    skiff, ketch = office.plans["Skiff"], office.plans["Ketch"]
    for purpose, accepted, field in (("  too short", True, "purpose"), ("A timetable.", False, "terms_accepted")):
        with pytest.raises(Invalid) as refused:
            asking.ask(own, second, skiff, purpose, accepted)
        assert refused.value.where == field
    with pytest.raises(Conflict, match="already on Harbour Data · Ketch"):
        asking.ask(own, one.application, skiff, "To look around.", True)
    asked = asking.ask(own, second, skiff, "A timetable.", True)
    with pytest.raises(Conflict, match="Harbour Data · Skiff is already waiting"):
        asking.ask(own, second, ketch, "A timetable.", True)
    other = office.acting(office.consumers[1])
    with pytest.raises(NotFound):
        asking.take_back(other, asked.id)
    with pytest.raises(NotFound):
        asking.ask(other, second, ketch, "A timetable.", True)
    assert asking.take_back(own, asked.id).state == "taken back"
    with pytest.raises(Conflict):
        deciding.decide(office.reviewer, asked.id, "granted", "")
    assert asking.ask(own, second, ketch, "A timetable.", True).state == "waiting"
    plans.close(office.manager, skiff)
    third = applications.register(own, "Third", "").id
    with pytest.raises(NotFound):
        asking.ask(own, third, skiff, "A timetable.", True)


@pytest.mark.parametrize("hidden", ["plan", "product"])
def test_one_who_may_not_see_a_plan_or_its_product_cannot_ask_for_it(office: Office, hidden: str) -> None:
    ferries, kayaks = (office.acting(c) for c in office.consumers)
    schools = groups.create(office.manager, "Schools")
    groups.set_members(office.manager, schools.id, [ferries.actor.own_consumer])
    if hidden == "plan":
        plans.show_to(office.manager, office.plans["Skiff"], [schools.id])
    else:
        with office.ctx.transaction() as session:
            typed = products.typed_of(products.get(session, office.product))
        products.save(office.manager, office.product, 1, replace(typed, groups=[schools.id]))
    application = applications.register(kayaks, "Second", "")
    with pytest.raises(NotFound):
        asking.ask(kayaks, application.id, office.plans["Skiff"], "To have a look.", True)
    application = applications.register(ferries, "Second", "")
    assert asking.ask(ferries, application.id, office.plans["Skiff"], "To have a look.", True).state == "waiting"


def test_a_decision_is_for_those_who_answer_for_it_and_is_told(office: Office) -> None:
    _, _, request = office.ask("Terns", "Skiff")
    with pytest.raises(NotAllowed):
        deciding.decide(office.finance, request, "granted", "")
    with pytest.raises(Invalid, match="say why"):
        deciding.decide(office.reviewer, request, "declined", "  ")
    with pytest.raises(NotFound):
        deciding.decide(office.reviewer, 10**9, "granted", "")
    before = stamps.number(office.ctx)
    assert deciding.decide(office.reviewer, request, "granted", " Welcome. ").note == "Welcome."
    assert stamps.number(office.ctx) > before  # gateways hear of it
    with office.ctx.transaction() as session:
        mail = session.scalars(select(Mail).order_by(Mail.id.desc())).first()
        assert (mail.recipient, mail.subject) == ("terns@consumer.example", "Harbour Data · Skiff: granted")
        assert mail.body.endswith("The reviewer writes: Welcome.\n")
    with pytest.raises(Conflict):
        deciding.decide(office.reviewer, request, "declined", "No.")


def test_a_product_that_is_not_on_sale_betrays_nothing_by_its_terms(office: Office) -> None:
    one = office.acting(office.consumers[0])
    other = products.clone(office.manager, office.product, "Not out yet")  # its plans are drafts

    def accepted(slug: str) -> str:
        try:
            terms_of_use.accept_terms(one, slug)
        except NotFound as error:
            return str(error)
        return "accepted"

    assert accepted(other.slug) == accepted("no-such").replace("no-such", other.slug)
    assert accepted("harbour-data") == "accepted"
    for plan in ("Skiff", "Ketch"):  # closed to others, it stays theirs
        plans.close(office.manager, office.plans[plan])
    assert accepted("harbour-data") == "accepted"
    newcomer = office.ctx.acting(office.join("Terns"))
    with pytest.raises(NotFound):
        terms_of_use.accept_terms(newcomer, "harbour-data")
