"""What the provider does about what developers write: hide, show again, settle; and nobody else learns why."""

from __future__ import annotations

from functools import partial

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.admit.community import moderation, questions
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.observe import today
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import letters
from tests.services.admit.community.test_questions import KAYAKS, asked, titles
from tests.services.admit.organisation.test_joining import owner
from tests.services.queries import asked as statements


def rows(office: Office, wanted: moderation.Wanted = "", words: str = "") -> list[str]:
    return [row.title for row in moderation.listed(office.reviewer, PageQuery(words=words), wanted).rows]


def waits(office: Office) -> list[str]:
    items = [*today.today(office.manager).yours, *today.today(office.manager).others]
    return [item.title for item in items if "question" in item.title]


def test_what_waits_for_an_answer_or_a_decision_is_listed_counted_and_told_today(office: Office) -> None:
    first, second = asked(office, "First"), asked(office, "Second")
    assert rows(office, "answer") == ["First", "Second"] and rows(office, "decision") == []
    assert waits(office) == ["2 questions wait for an answer"] and today.counts(office.manager).questions == 2
    answer = questions.answer(owner(office, 1), first.id, "Buy mine").answers[0]
    questions.report(owner(office), first.id, answer.id, "It sells something.")
    assert rows(office, "answer") == ["Second"] and rows(office, "decision") == ["First"]
    assert waits(office) == ["One question waits for an answer", "One question was reported"]
    shown = moderation.one(office.reviewer, first.id)
    assert (shown.asked.by, shown.asked.consumer) == ("Ferries owner", "Ferries")
    assert [(r.consumer, r.reason) for r in shown.answers[0].reports] == [("Ferries", "It sells something.")]
    moderation.let_stand(office.reviewer, first.id, answer.id)
    assert rows(office, "decision") == [] and moderation.one(office.reviewer, first.id).answers[0].state == "shown"
    with pytest.raises(Conflict, match="already"):  # once for each organisation, settled or not
        questions.report(owner(office), first.id, answer.id, "Again.")
    moderation.answer(office.manager, second.id, "Here.")
    assert waits(office) == [] and rows(office) == ["Second", "First"]
    assert rows(office, words="SECOND") == ["Second"] and rows(office, words="ferr") == ["Second", "First"]


def test_what_is_hidden_is_seen_by_whoever_wrote_it_alone_who_is_told_why(office: Office) -> None:
    made = asked(office)
    answer = questions.answer(owner(office, 1), made.id, "Buy mine").answers[0]
    questions.accept(owner(office), made.id, answer.id)
    questions.report(owner(office), made.id, answer.id, "It sells something.")
    hidden = moderation.hide(office.reviewer, made.id, answer.id, "Advertising.")
    assert (hidden.answers[0].state, hidden.answers[0].accepted, hidden.answers[0].reports) == ("hidden", False, [])
    assert hidden.standing == "not answered"
    letter = letters(office.ctx, KAYAKS)[-1]
    assert letter.subject == "Hidden: Which datum?" and "Advertising." in letter.body and "Ferries" not in letter.body
    for ctx in (office.ctx, owner(office)):
        view = questions.one(ctx, made.id)
        assert view.answers == [] and "Advertising" not in repr(view)
    assert questions.one(owner(office, 1), made.id).answers[0].hidden == "Advertising."
    for act in (
        partial(questions.accept, owner(office), made.id, answer.id),
        partial(questions.report, owner(office), made.id, answer.id, "x"),
        partial(moderation.accept, office.reviewer, made.id, answer.id),
    ):
        with pytest.raises(NotFound):
            act()
    with pytest.raises(Conflict):
        questions.take_answer_back(owner(office, 1), answer.id)
    moderation.show(office.reviewer, made.id, answer.id)
    assert len(questions.one(office.ctx, made.id).answers) == 1


def test_a_hidden_question_is_gone_for_others_with_its_answers(office: Office) -> None:
    made = asked(office)
    answer = questions.answer(owner(office, 1), made.id, "x").answers[0]
    moderation.hide(office.reviewer, made.id, None, "Not about the data.")
    assert titles(office.ctx) == [] == titles(owner(office))
    for act in (
        partial(questions.one, owner(office, 1), made.id),
        partial(questions.change_answer, owner(office, 1), answer.id, "y"),
        partial(questions.answer, owner(office, 1), made.id, "y"),
    ):
        with pytest.raises(NotFound):
            act()
    assert questions.one(owner(office), made.id).asked.hidden == "Not about the data."
    with pytest.raises(Conflict, match="hidden"):
        moderation.answer(office.manager, made.id, "x")
    with pytest.raises(Conflict):
        moderation.hide(office.reviewer, made.id, None, "Again.")
    moderation.show(office.reviewer, made.id, None)
    assert titles(office.ctx) == ["Which datum?"]


def test_what_the_provider_hides_of_its_own_is_seen_by_nobody_in_a_portal(office: Office) -> None:
    made = asked(office)
    ours = moderation.answer(office.manager, made.id, "The wrong datum.").answers[0]
    moderation.hide(office.manager, made.id, ours.id, "It was wrong.")
    for ctx in (office.ctx, owner(office), owner(office, 1)):
        assert questions.one(ctx, made.id).answers == []
    assert moderation.one(office.reviewer, made.id).answers[0].hidden_why == "It was wrong."


def test_nobody_reports_their_own_nor_what_the_provider_says(office: Office) -> None:
    made = asked(office)
    ours = moderation.answer(office.manager, made.id, "x").answers[0]
    for answer in (None, ours.id):
        with pytest.raises(Conflict):
            questions.report(owner(office), made.id, answer, "x")
    with pytest.raises(Invalid):
        questions.report(owner(office, 1), made.id, None, " ")
    assert questions.report(owner(office, 1), made.id, None, "x").asked.reported


def test_an_answer_of_another_question_is_not_hidden_with_this_one(office: Office) -> None:
    one, other = asked(office, "One"), asked(office, "Other")
    answer = questions.answer(owner(office, 1), other.id, "x").answers[0]
    for act in (moderation.show, moderation.let_stand):
        with pytest.raises(NotFound):
            act(office.reviewer, one.id, answer.id)
    with pytest.raises(NotFound):
        moderation.hide(office.reviewer, one.id, answer.id, "x")


def test_all_staff_answer_and_finance_hides_nothing(office: Office) -> None:
    made = asked(office)
    view = moderation.answer(office.finance, made.id, "Mine")
    changed = moderation.change_answer(office.manager, view.answers[0].id, "Ours")
    assert changed.answers[0].text == "Ours" and changed.answers[0].by == "Beatriz"
    theirs = questions.answer(owner(office, 1), made.id, "x").answers[-1]
    with pytest.raises(Conflict):
        moderation.change_answer(office.manager, theirs.id, "Put into their mouth")
    for act in (moderation.show, moderation.let_stand, partial(moderation.hide, reason="x")):
        with pytest.raises(NotAllowed):
            act(office.finance, made.id, None)
    assert (
        moderation.accept(office.ctx.acting(Actor("Tomas", frozenset({"operations"}))), made.id, theirs.id).standing
        == "settled"
    )


def test_a_list_asks_the_database_no_more_often_for_more_rows(office: Office) -> None:
    def asks(ctx: Context) -> int:
        with statements(ctx) as of_list:
            moderation.listed(office.reviewer, PageQuery())
            questions.of_product(ctx, "harbour-data", PageQuery())
        return len(of_list)

    asked(office, "One")
    few = asks(office.ctx)
    for n in range(3):
        made = asked(office, f"More {n}")
        moderation.answer(office.manager, made.id, "x")
    assert asks(office.ctx) <= few
