"""Questions and answers in a portal: who reads them, who writes, and what others learn of whoever wrote."""

from __future__ import annotations

from datetime import timedelta

import pytest

from calm_tariff.core.errors import Conflict, NotAllowed, NotFound, NotSignedIn, TooMany
from calm_tariff.services.admit import groups
from calm_tariff.services.admit.community import moderation, questions
from calm_tariff.services.admit.community.questions import QuestionView
from calm_tariff.services.admit.organisation import belonging
from calm_tariff.services.base import own_notices
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.accounts import letters
from tests.services.admit.organisation.test_joining import joined, owner
from tests.services.admit.portals.test_storefront import SLUG, restrict

FERRIES, KAYAKS = "ferries@consumer.example", "kayaks@consumer.example"


def asked(office: Office, title: str = "Which datum?") -> QuestionView:
    return questions.ask(owner(office), SLUG, title, "Above *what* are heights?")


def told(office: Office, email: str) -> list[str]:
    return [letter.subject for letter in letters(office.ctx, email)]


def titles(ctx: Context, words: str = "") -> list[str]:
    return [line.title for line in questions.of_product(ctx, SLUG, PageQuery(words=words)).rows]


def test_a_question_is_asked_answered_and_settled(office: Office) -> None:
    made = asked(office)
    assert (made.standing, made.following, made.asked.html) == (
        "not answered",
        True,
        "<p>Above <em>what</em> are heights?</p>\n",
    )
    office.clock.forward(minutes=1)
    theirs = questions.answer(owner(office, 1), made.id, "Mean sea level?")
    assert told(office, FERRIES)[-1] == "An answer to: Which datum?"
    ours = moderation.answer(office.manager, made.id, "**Chart datum.**")
    assert ours.standing == "answered" and [a.official for a in ours.answers] == [False, True]
    settled = questions.accept(owner(office), made.id, ours.answers[1].id)
    assert settled.standing == "settled" and [a.official for a in settled.answers] == [True, False]
    assert not any("helped" in subject for subject in told(office, KAYAKS))  # the provider's answer is nobody's
    settled = questions.accept(owner(office), made.id, theirs.answers[0].id)
    assert [a.accepted for a in settled.answers] == [True, False]  # one at most
    assert told(office, KAYAKS)[-1] == "Your answer helped: Which datum?"
    assert questions.accept(owner(office), made.id, None).standing == "answered"
    with pytest.raises(NotAllowed, match="whoever asked"):
        questions.accept(owner(office, 1), made.id, theirs.answers[0].id)
    with pytest.raises(NotFound):
        questions.accept(owner(office), asked(office, "Another").id, theirs.answers[0].id)


def test_others_learn_neither_who_asks_nor_for_whom(office: Office) -> None:
    ana = joined(office, "developer")
    made = asked(office)
    questions.answer(ana, made.id, "I know.")
    questions.answer(owner(office, 1), made.id, "We know, too.")
    moderation.answer(office.manager, made.id, "So do we.")

    def by(ctx: Context) -> list[str]:
        view = questions.one(ctx, made.id)
        return [view.asked.by, *(a.by for a in view.answers)]

    assert by(owner(office)) == ["you", "Ana", "a developer", "Test Office"]
    assert by(ana) == ["Ferries owner", "you", "a developer", "Test Office"]
    assert by(owner(office, 1)) == [*by(office.ctx)[:1], "who asked", "you", "Test Office"]
    assert by(office.ctx) == ["a developer", "who asked", "a developer", "Test Office"]
    for ctx in (office.ctx, owner(office, 1)):
        shown = f"{questions.one(ctx, made.id)} {questions.of_product(ctx, SLUG, PageQuery())}"
        assert "Ferries" not in shown and "Ana" not in shown and "Ines" not in shown
    assert "Ana" not in " ".join(letter.body for letter in letters(office.ctx, KAYAKS))


def test_what_is_hidden_from_a_group_is_not_there_in_any_way(office: Office) -> None:
    made = asked(office)
    questions.follow(owner(office, 1), made.id, True)
    restrict(office, consumer=0)
    with office.ctx.transaction() as session:
        assert groups.of_consumer(session, office.consumers[1].member.consumer_id) == frozenset()
    # The kayaks are subscribed to it, and still see it; strangers do not, nor do those who come now.
    assert titles(owner(office, 1)) == ["Which datum?"]
    newcomer = office.ctx.acting(office.join("Gulls"))
    for ctx in (office.ctx, newcomer):
        with pytest.raises(NotFound) as hidden:
            questions.one(ctx, made.id)
        with pytest.raises(NotFound) as never:
            questions.one(ctx, 999)
        assert hidden.value.what == never.value.what
        with pytest.raises(NotFound):
            questions.of_product(ctx, SLUG, PageQuery())
    for act in (
        lambda: questions.answer(newcomer, made.id, "x"),
        lambda: questions.follow(newcomer, made.id, True),
        lambda: questions.report(newcomer, made.id, None, "x"),
        lambda: questions.ask(newcomer, SLUG, "x", "x"),
    ):
        with pytest.raises(NotFound):
            act()


def test_followers_are_told_while_they_may_see_it(office: Office) -> None:
    made = asked(office)
    gulls = office.ctx.acting(office.join("Gulls"))
    questions.follow(gulls, made.id, True)
    moderation.answer(office.manager, made.id, "One.")
    assert told(office, "gulls@consumer.example")[-1] == "An answer to: Which datum?"
    before = len(told(office, "gulls@consumer.example"))
    restrict(office, consumer=0)
    moderation.answer(office.manager, made.id, "Two.")
    assert len(told(office, "gulls@consumer.example")) == before
    assert told(office, FERRIES).count("An answer to: Which datum?") == 2
    questions.follow(owner(office), made.id, False)
    questions.follow(owner(office), made.id, False)  # as it is
    moderation.answer(office.manager, made.id, "Three.")
    assert told(office, FERRIES).count("An answer to: Which datum?") == 2


def test_who_has_left_is_told_nothing_and_may_choose_what_comes_by_mail(office: Office) -> None:
    ana = joined(office, "developer")
    made = questions.ask(ana, SLUG, "Which datum?", "x")
    own_notices.choose(ana, "questions", False)
    moderation.answer(office.manager, made.id, "One.")
    assert "An answer to: Which datum?" not in told(office, "ana@ferries.example")
    assert own_notices.own(ana).rows[0].page == f"/products/{SLUG}?view=questions&question={made.id}"
    belonging.remove(owner(office), ana.actor.member_id or 0)
    count = own_notices.own(ana).total
    moderation.answer(office.manager, made.id, "Two.")
    assert own_notices.own(ana).total == count
    assert questions.one(owner(office), made.id).asked.by == "Ana"  # what she asked stays


def test_only_whoever_wrote_it_changes_it_and_what_was_answered_stays(office: Office) -> None:
    made = asked(office)
    with pytest.raises(Conflict):
        questions.change(owner(office, 1), made.id, "Mine", "x")
    changed = questions.change(owner(office), made.id, "Which zero?", "Above which?")
    assert changed.title == "Which zero?" and changed.asked.changed_at == office.clock.now
    answer = questions.answer(owner(office, 1), made.id, "Chart").answers[0]
    with pytest.raises(Conflict):
        questions.change_answer(owner(office), answer.id, "x")
    with pytest.raises(Conflict):
        questions.take_answer_back(owner(office), answer.id)
    with pytest.raises(Conflict, match="has been answered"):
        questions.take_back(owner(office), made.id)
    assert questions.change_answer(owner(office, 1), answer.id, "Chart datum").answers[0].text == "Chart datum"
    assert questions.one(owner(office), made.id).answers[0].text is None  # only its own to change
    questions.accept(owner(office), made.id, answer.id)
    assert questions.take_answer_back(owner(office, 1), answer.id).standing == "not answered"
    questions.take_back(owner(office), made.id)
    assert titles(owner(office)) == []
    for act in (
        lambda: questions.one(owner(office), made.id),
        lambda: questions.change(owner(office), made.id, "x", "x"),
        lambda: moderation.one(office.manager, made.id),
        lambda: questions.change_answer(owner(office, 1), answer.id, "x"),
    ):
        with pytest.raises(NotFound):
            act()


def test_the_list_holds_what_moved_last_first_and_finds_words_as_they_are(office: Office) -> None:
    first = asked(office, "Rates of 100%?")
    office.clock.forward(minutes=1)
    asked(office, "Rates of 1000?")
    assert titles(office.ctx) == ["Rates of 1000?", "Rates of 100%?"]
    office.clock.forward(minutes=1)
    questions.answer(owner(office, 1), first.id, "Yes.")
    page = questions.of_product(office.ctx, SLUG, PageQuery(rows=1))
    assert ([(line.title, line.answers) for line in page.rows], page.total) == ([("Rates of 100%?", 1)], 2)
    assert page.next
    assert [q.title for q in questions.of_product(office.ctx, SLUG, PageQuery(cursor=page.next)).rows] == [
        "Rates of 1000?"
    ]
    assert titles(office.ctx, "100%") == ["Rates of 100%?"] and titles(office.ctx, "ABOVE") == titles(office.ctx)


def test_a_flood_is_held_back_for_a_person_and_for_their_organisation(office: Office) -> None:
    for n in range(5):
        asked(office, f"Question {n}")
    with pytest.raises(TooMany) as refused:
        asked(office, "One more")
    assert 0 < refused.value.wait <= 61 and len(titles(office.ctx)) == 5
    asked_by_another = questions.ask(owner(office, 1), SLUG, "Ours", "x")
    with pytest.raises(TooMany):
        questions.answer(owner(office), asked_by_another.id, "x")
    with pytest.raises(TooMany):
        questions.report(owner(office), asked_by_another.id, None, "x")
    office.clock.now += timedelta(seconds=refused.value.wait)
    assert questions.answer(owner(office), asked_by_another.id, "x").answers


def test_strangers_and_billing_members_read_and_do_not_write(office: Office) -> None:
    made = asked(office)
    filipa = joined(office, "billing")
    for ctx, refusal in ((office.ctx, NotSignedIn), (filipa, NotAllowed)):
        view = questions.one(ctx, made.id)
        assert (view.may_answer, view.may_accept, view.asked.may_report, view.asked.text) == (False, False, False, None)
        for act in (questions.answer, lambda c, q, text: questions.ask(c, SLUG, text, text)):
            with pytest.raises(refusal):
                act(ctx, made.id, "x")
    assert questions.follow(filipa, made.id, True).following
