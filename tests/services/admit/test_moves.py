"""What consumers do with their subscriptions: at once, later, and where somebody decides."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from typing import Any

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import carrying_over, moves, subscriptions
from calm_tariff.services.admit.desk import asking, deciding, outside_decisions, queue
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.admit.desk.queue import Sought
from calm_tariff.services.base import stamps
from calm_tariff.services.serve import trials
from calm_tariff.services.settle import own_subscriptions
from calm_tariff.services.settle.own_subscriptions import SubscriptionView
from calm_tariff.store.admit.subscriptions import ComingMove, Pause, Stay, Subscription
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from tests.office import START, Consumer, Office, terms
from tests.services.admit.test_subscriptions import TRIAL_END, admitted, trial

OCTOBER = datetime(2026, 9, 30, 23, tzinfo=UTC)  # midnight in Lisbon
NOVEMBER = datetime(2026, 11, 1, tzinfo=UTC)


@pytest.fixture
def one(office: Office) -> Consumer:
    """A consumer on Ketch, where plans are to be had for the asking, some hours after it began."""
    office.change_product(route=Route(otherwise="open"))
    office.clock.forward(hours=5)
    return office.consumers[0]


def do(office: Office, by: Consumer, kind: Any, when: Any = "now", plan: str | None = None, purpose: str = "") -> Any:
    asked = MoveAsked(kind=kind, when=when, plan_id=office.plans[plan] if plan else None, purpose=purpose)
    return asking.ask_to_move(office.acting(by), by.subscription, asked)


def seen(office: Office, by: Consumer) -> SubscriptionView:
    return own_subscriptions.one(office.acting(by), by.subscription)


def course(office: Office, by: Consumer) -> list[tuple[str, int, datetime, datetime | None]]:
    with office.ctx.transaction() as session:
        kept = session.scalars(select(Stay).filter_by(subscription_id=by.subscription).order_by(Stay.start_at, Stay.id))
        return [(s.revision.plan.name, s.revision.number, s.start_at, s.end_at) for s in kept]


def told(office: Office, words: str) -> list[str]:
    with office.ctx.transaction() as session:
        return [m.subject for m in session.scalars(select(Mail)) if words in m.subject]


def test_another_plan_is_in_force_at_once_and_is_told(office: Office, one: Consumer) -> None:
    before, number = office.ctx.now, stamps.number(office.ctx)
    assert do(office, one, "change plan", plan="Skiff") is None
    assert course(office, one) == [("Ketch", 1, START, before), ("Skiff", 1, before, None)]
    assert (seen(office, one).plan, seen(office, one).state) == ("Skiff", "active")
    assert told(office, "becomes") == ["Ferries app: Harbour Data · Ketch becomes Skiff"]
    assert stamps.number(office.ctx) > number  # gateways are to hear of it
    with pytest.raises(Invalid, match="on Skiff already"):
        do(office, one, "change plan", plan="Skiff")


def test_nobody_moves_what_is_anothers_nor_to_a_plan_that_is_not_for_them(office: Office, one: Consumer) -> None:
    other = office.consumers[1]
    stranger = office.acting(other)
    for asked in (MoveAsked(kind="pause"), MoveAsked(kind="change plan", plan_id=office.plans["Skiff"])):
        with pytest.raises(NotFound, match="no such subscription"):
            asking.ask_to_move(stranger, one.subscription, asked)
    with pytest.raises(NotFound):
        own_subscriptions.one(stranger, one.subscription)
    with pytest.raises(NotFound):
        moves.take_back(stranger, one.subscription)
    for plan in (999, None):
        with pytest.raises(NotFound, match="no such plan on sale"):
            asking.ask_to_move(office.acting(one), one.subscription, MoveAsked(kind="change plan", plan_id=plan))
    assert course(office, one) == [("Ketch", 1, START, None)]


def test_what_is_to_come_comes_by_itself_or_is_taken_back(office: Office, one: Consumer) -> None:
    do(office, one, "change plan", "later", "Skiff")
    coming = seen(office, one).coming
    assert coming and (coming.at, coming.plan, seen(office, one).plan) == (OCTOBER, "Skiff", "Ketch")
    assert course(office, one) == [("Ketch", 1, START, OCTOBER), ("Skiff", 1, OCTOBER, None)]
    assert moves.come_true(office.ctx, one.subscription) == OCTOBER
    moves.take_back(office.acting(one), one.subscription)
    assert course(office, one) == [("Ketch", 1, START, None)] and seen(office, one).coming is None
    with pytest.raises(Conflict, match="nothing of it is to come"):
        moves.take_back(office.acting(one), one.subscription)
    # Another takes its place; a pause leaves it.
    do(office, one, "change plan", "later", "Skiff")
    do(office, one, "end", "later")
    do(office, one, "pause")
    with office.ctx.transaction() as session:
        asked = session.scalars(select(Job).where(Job.kind == moves.MAKE)).one()
        assert (asked.arguments, asked.run_at) == ({"subscription": one.subscription}, OCTOBER)
    office.clock.now = OCTOBER + timedelta(hours=3)
    with pytest.raises(Conflict, match="nothing of it is to come"):
        moves.take_back(office.acting(one), one.subscription)
    assert moves.make_those_that_have_come(office.ctx) == 1
    assert moves.make_those_that_have_come(office.ctx) == 0
    after = seen(office, one)
    assert (after.state, after.ended_at, after.coming, after.choices) == ("ended", OCTOBER, None, [])
    assert [(p.start_at, p.end_at) for p in after.pauses] == [(START + timedelta(hours=5), OCTOBER)]
    assert course(office, one) == [("Ketch", 1, START, OCTOBER)]
    with pytest.raises(Conflict, match="it is ended"):
        do(office, one, "end")


def test_a_pause_goes_on_until_it_is_over_whatever_plan_it_is_on(office: Office, one: Consumer) -> None:
    do(office, one, "pause")
    began = office.ctx.now
    office.clock.forward(days=1)
    do(office, one, "change plan", plan="Skiff")
    assert (seen(office, one).state, seen(office, one).plan) == ("paused", "Skiff")
    office.clock.forward(days=1)
    do(office, one, "resume")
    assert seen(office, one).state == "active"
    with office.ctx.transaction() as session:
        kept = session.scalars(select(Pause)).all()
        assert [(p.subscription_id, p.start_at, p.end_at) for p in kept] == [
            (one.subscription, began, began + timedelta(days=2))
        ]
    assert len(told(office, "is paused")) == len(told(office, "goes on")) == 1


def test_a_move_is_decided_where_a_person_decides(office: Office) -> None:
    one = office.consumers[0]
    with pytest.raises(Invalid, match="purpose"):
        do(office, one, "change plan", plan="Skiff", purpose="less")
    asked = do(office, one, "change plan", "later", "Skiff", "We fetch less in winter.")
    assert (asked.state, asked.plan, asked.moves_from, asked.moves_when) == ("waiting", "Skiff", "Ketch", "later")
    assert seen(office, one).waiting == "Skiff" and course(office, one) == [("Ketch", 1, START, None)]
    with pytest.raises(Conflict, match="already waiting"):
        do(office, one, "change plan", plan="Skiff", purpose="We fetch less in winter.")
    (line,) = queue.desk(office.reviewer, PageQuery()).rows
    assert line.moves_from == "Ketch" and deciding.moved_by(office.reviewer, line.id) == one.subscription
    do(office, one, "pause")  # of one's own accord, at any time
    do(office, one, "resume")
    deciding.decide(office.reviewer, asked.id, "granted", "")
    assert course(office, one)[1:] == [("Skiff", 1, OCTOBER, None)]
    coming = seen(office, one).coming
    assert coming and (coming.made_by, seen(office, one).waiting) == ("Rui", None)


def test_what_cannot_be_made_any_more_is_not_granted(office: Office) -> None:
    one, other = office.consumers
    asked = do(office, one, "change plan", plan="Skiff", purpose="We fetch less in winter.")
    do(office, one, "end")
    with pytest.raises(Conflict, match="it is ended"):
        deciding.decide(office.reviewer, asked.id, "granted", "")
    assert deciding.decide(office.reviewer, asked.id, "declined", "You have left.").state == "declined"
    # An outside system is not there to be told so: its grant declines, and says why.
    office.change_product(route=Route(otherwise="outside"))
    asked = do(office, other, "change plan", plan="Skiff", purpose="We fetch less in winter.")
    assert asked.state == "passed to outside"
    do(office, other, "end")
    outside_decisions.decide_outside(office.ctx, asked.id, "granted", "Fine.")
    (declined, _) = queue.desk(office.reviewer, PageQuery(), Sought(decided=True)).rows[:2]
    assert (declined.id, declined.state) == (asked.id, "declined")
    assert declined.note == "Fine. It cannot be made any more: the subscription: it is ended; ask for a plan anew."


def test_an_end_takes_the_notice_that_was_agreed(office: Office, one: Consumer) -> None:
    office.draft("Ketch", {**terms(), "notice_days": 30})
    office.publish("keep")
    do(office, one, "end")  # on the terms of before
    office.change_product(route=Route(otherwise="reviewed"))
    new = office.admit("Anglers", "Ketch")
    view = seen(office, new)
    assert (view.notice_days, view.end_at, view.end_later_at) == (30, datetime(2026, 10, 10, 23, tzinfo=UTC), NOVEMBER)
    with pytest.raises(Conflict, match="can end with 10 October 2026 at the earliest"):
        do(office, new, "end")
    do(office, new, "end", "later")
    assert course(office, new)[-1][3] == NOVEMBER


def test_what_follows_a_trial_is_chosen_and_told_three_days_before(office: Office) -> None:
    by_days = admitted(office, trial("charge"))
    other = office.admit("Divers", "Ketch")
    third = office.admit("Surfers", "Ketch")
    office.change_product(route=Route(otherwise="open"))
    with office.ctx.transaction() as session:
        asked = session.scalars(select(Job).where(Job.kind == subscriptions.TELL_OF_TRIAL_END)).all()
        assert {job.run_at for job in asked} == {TRIAL_END - timedelta(days=3)} and len(asked) == 3
    shown = seen(office, by_days).trial
    assert shown and (shown.ends_at, shown.days_left, shown.units_left, shown.follows) == (TRIAL_END, 14, None, "Ketch")
    assert [c.name for c in seen(office, by_days).choices] == ["Ketch", "Skiff"]
    do(office, by_days, "end", "later")
    do(office, other, "change plan", "later", "Skiff")
    assert seen(office, by_days).coming is None
    office.clock.now = TRIAL_END - timedelta(days=3)
    for each in (by_days, other, third):
        assert subscriptions.tell_of_trial_end(office.ctx, each.subscription)
        assert not subscriptions.tell_of_trial_end(office.ctx, each.subscription)  # once
    with office.ctx.transaction() as session:
        letters = [m.body for m in session.scalars(select(Mail)) if m.subject.startswith("The trial of")]
    assert [("Nothing follows" in body, "Skiff follows" in body, "Ketch follows" in body) for body in letters] == [
        (True, False, False),
        (False, True, False),
        (False, False, True),
    ]
    office.clock.now = TRIAL_END + timedelta(minutes=1)
    assert trials.end_trials(office.ctx) == 3
    after = [(seen(office, each).state, seen(office, each).plan) for each in (by_days, other, third)]
    assert after == [("ended", "Ketch"), ("active", "Skiff"), ("active", "Ketch")]


def test_one_who_would_end_can_be_charged_after_the_trial_and_units_end_it_early(office: Office) -> None:
    new = admitted(office, trial("end", units="20"))
    office.change_product(route=Route(otherwise="open"))
    shown = seen(office, new).trial
    assert shown and (shown.units_left, shown.meter, shown.follows) == (20, "Forecast calls", None)
    do(office, new, "change plan", "later", "Ketch")
    shown = seen(office, new).trial
    assert shown and shown.follows == "Ketch"
    with office.ctx.transaction() as session:
        due = session.scalars(select(Stay.due_at).filter_by(subscription_id=new.subscription).order_by(Stay.id)).all()
    assert due == [None, START]
    with pytest.raises(Conflict, match="a trial's days pass"):
        do(office, new, "pause")
    office.clock.forward(days=1)
    do(office, new, "change plan", plan="Ketch")  # its charges begin before the trial has to end
    assert (seen(office, new).state, seen(office, new).trial) == ("active", None)
    assert [(s.start_at, s.end_at, s.trial) for s in seen(office, new).stays] == [
        (START, office.ctx.now, True),
        (office.ctx.now, None, False),
    ]


def test_new_terms_and_a_withdrawal_reach_what_is_to_come_and_what_was_cut_off(office: Office, one: Consumer) -> None:
    other = office.consumers[1]
    do(office, one, "change plan", "later", "Skiff")
    office.draft("Skiff", terms(3, 5, 30, fee="0"))
    office.publish("next period")
    assert course(office, one) == [("Ketch", 1, START, OCTOBER), ("Skiff", 2, OCTOBER, None)]
    office.draft("Ketch", terms(fee="70"))
    office.publish("at date", on=date(2026, 10, 15))
    assert course(office, one)[1:] == [("Skiff", 2, OCTOBER, None)]  # it is not on Ketch any more by then
    assert len(told(office, "changes on 15 October")) == 1
    moves.take_back(office.acting(one), one.subscription)
    mid = datetime(2026, 10, 14, 23, tzinfo=UTC)
    assert course(office, one) == course(office, other) == [("Ketch", 1, START, mid), ("Ketch", 2, mid, None)]
    # A plan that is withdrawn takes along who is on it and who is on the way to it, pauses and ends as they are.
    do(office, one, "change plan", "later", "Skiff")
    do(office, other, "change plan", plan="Skiff")
    do(office, other, "pause")
    do(office, other, "end", "later")
    carrying_over.withdraw(office.manager, office.plans["Skiff"], office.plans["Ketch"])
    now = office.ctx.now
    assert course(office, one) == [("Ketch", 1, START, OCTOBER), ("Ketch", 2, OCTOBER, None)]
    assert course(office, other)[-1] == ("Ketch", 2, now, OCTOBER)
    assert (seen(office, other).state, seen(office, other).plan) == ("paused", "Ketch")
    office.clock.now = OCTOBER
    assert moves.make_those_that_have_come(office.ctx) == 2
    with office.ctx.transaction() as session:
        states = {s.id: (s.state, s.plan.name) for s in session.scalars(select(Subscription))}
        assert session.scalars(select(ComingMove)).all() == []
    assert states == {one.subscription: ("active", "Ketch"), other.subscription: ("ended", "Ketch")}
