"""One conversation of both sides about a request; what is inside never leaves."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn, Stale
from calm_tariff.services.admit.desk import asking, conversation, deciding, own_requests, queue
from calm_tariff.services.base.context import NOBODY, Actor
from calm_tariff.services.observe import request_in_view
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.store.house.people import Person
from tests.office import Office


def said(office: Office, request: int) -> list[tuple[str, str]]:
    return [(m.kind, m.text) for m in request_in_view.one(office.reviewer, request).messages]


def last_letter(office: Office, to: str) -> Mail:
    with office.ctx.transaction() as session:
        return session.scalars(select(Mail).where(Mail.recipient == to).order_by(Mail.id.desc())).first()  # type: ignore[return-value]


def reviewer(office: Office) -> Actor:
    """The reviewer as the person that is stored."""
    with office.ctx.transaction() as session:
        person = session.scalars(select(Person).where(Person.email == "reviewer@test.example")).one()
        return Actor(person.name, frozenset(person.roles), person_id=person.id)


def test_what_is_asked_back_rests_until_it_is_answered_and_that_time_does_not_count(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    own, rui = office.ctx.acting(member), office.ctx.acting(reviewer(office))
    due = request_in_view.one(rui, request).request.due_at
    assert due is not None
    office.clock.forward(hours=2)
    asked = conversation.ask_back(rui, request, "Who will see it?")
    assert asked.state == "asked back"
    letter = last_letter(office, "anglers@consumer.example")
    assert "Who will see it?" in letter.body and f"/requests/{request}" in letter.body
    view = own_requests.one(own, request)
    assert (view.state, view.acts, view.next) == ("asked back", "you", "It goes on once you have answered.")
    office.clock.forward(hours=30)
    assert request_in_view.one(rui, request).request.due_at == due + timedelta(hours=30)
    conversation.answer(own, request, "Our members alone.")
    back = request_in_view.one(rui, request).request
    assert (back.state, back.due_at) == ("waiting", due + timedelta(hours=30))
    office.clock.forward(hours=5)
    assert request_in_view.one(rui, request).request.due_at == back.due_at
    assert said(office, request)[1:] == [("asked back", "Who will see it?"), ("answered", "Our members alone.")]
    told = last_letter(office, "reviewer@test.example")  # who asked
    assert "Our members alone." in told.body and f"/admit/desk/{request}" in told.body


def test_whoever_has_it_in_hand_is_told_of_an_answer(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    with office.ctx.transaction() as session:
        ines = session.scalars(select(Person).where(Person.email == "product@test.example")).one()
    queue.hand_over(office.ctx.acting(reviewer(office)), request, ines.id)
    assert last_letter(office, ines.email).subject == "Anglers app of Anglers is in your hands"
    conversation.answer(office.ctx.acting(member), request, "One thing more.")
    assert "One thing more." in last_letter(office, ines.email).body


def test_what_is_inside_is_seen_by_no_consumer(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    before = last_letter(office, "anglers@consumer.example").id
    conversation.say(office.finance, request, "They owe us for August.", inside=True)
    assert last_letter(office, "anglers@consumer.example").id == before
    assert "August" not in str(own_requests.one(own, request))
    conversation.say(office.reviewer, request, "We look at it today.")
    view = own_requests.one(own, request)
    assert [(m.by, m.text) for m in view.messages[1:]] == [("Test Office", "We look at it today.")]  # nobody by name
    assert "We look at it today." in last_letter(office, "anglers@consumer.example").body
    queue.hand_over(office.reviewer, request, None)
    assert [m.kind for m in own_requests.one(own, request).messages] == ["asked", "said"]


def test_nobody_writes_into_anothers_conversation(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    other = office.acting(office.consumers[0])
    for work in (
        lambda: conversation.answer(other, request, "Mine, too."),
        lambda: own_requests.one(other, request),
        lambda: asking.take_back(other, request),
    ):
        with pytest.raises(NotFound):
            work()
    with pytest.raises(NotSignedIn):
        conversation.say(other, request, "Hello.")
    with pytest.raises(NotSignedIn):
        own_requests.one(office.ctx.acting(NOBODY), request)
    with pytest.raises(NotAllowed):
        conversation.say(office.finance, request, "Dear consumer.")
    assert len(said(office, request)) == 1


def test_words_are_needed_and_what_is_decided_is_over(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    for text in ("", "  \n", "x" * 5001):
        with pytest.raises(Invalid) as refused:
            conversation.ask_back(office.reviewer, request, text)
        assert refused.value.where == "text"
    with pytest.raises(Stale):
        conversation.ask_back(office.reviewer, request, "Who?", edition=7)
    deciding.decide(office.reviewer, request, "declined", "No.")
    with pytest.raises(Conflict, match="it is declined"):
        conversation.ask_back(office.reviewer, request, "Who?")
    with pytest.raises(Conflict, match="it is declined"):
        conversation.answer(own, request, "But why?")


def test_who_looks_at_one_sees_who_else_does_until_they_leave(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    assert queue.look(office.reviewer, request) == []
    assert queue.look(office.manager, request) == ["Rui"]
    assert queue.look(office.reviewer, request) == ["Ines"]
    office.clock.forward(seconds=16)
    assert queue.look(office.reviewer, request) == []
    queue.forget_viewers(office.ctx)
    assert queue.look(office.manager, request) == ["Rui"]
    with pytest.raises(NotFound):
        queue.look(office.manager, 10**9)


def test_the_desk_shows_what_is_sought_in_the_order_that_is_wanted(office: Office) -> None:
    rui = office.ctx.acting(reviewer(office))
    _, _, cheap = office.ask("Auks", "Skiff")
    _, _, dear = office.ask("Boobies", "Ketch")
    queue.hand_over(rui, dear, rui.actor.person_id)

    def found(sort: str = "", down: bool = False, **sought: bool) -> list[str]:
        rows = queue.desk(rui, PageQuery(sort=sort, down=down), queue.Sought(**sought)).rows  # type: ignore[arg-type]
        return [row.consumer for row in rows]

    assert found("weight", down=True) == ["Boobies", "Auks"] and found("weight") == ["Auks", "Boobies"]
    assert found(mine=True) == ["Boobies"] and found(overdue=True) == []
    office.clock.forward(days=7)
    assert found(overdue=True) == ["Auks", "Boobies"]
    conversation.ask_back(rui, cheap, "What for?")
    assert found(overdue=True) == ["Boobies"]
    _, _, new = office.ask("Cormorants", "Skiff")
    assert found("target", down=True)[0] == "Cormorants"
    deciding.decide(rui, new, "declined", "No.")
    assert found(undoable=True) == ["Cormorants"]
    office.clock.forward(minutes=1)
    assert found(undoable=True) == []


def test_what_can_be_undone_says_until_when_though_time_goes_on_while_it_is_read(office: Office) -> None:
    _, _, request = office.ask("Auks", "Skiff")
    until = deciding.decide(office.reviewer, request, "declined", "No.").undo_until
    assert until is not None
    looks = iter([until - timedelta(microseconds=1), *(until + timedelta(seconds=n) for n in range(9))])
    slow = replace(office.reviewer, clock=lambda: next(looks))
    rows = queue.desk(slow, PageQuery(), queue.Sought(undoable=True)).rows
    assert [row.undo_until for row in rows if row.id == request] == [until]
