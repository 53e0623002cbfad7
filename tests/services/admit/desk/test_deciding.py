"""Who agrees to a request, what a grant does, and that what was decided is told once it cannot be undone any more."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, Stale
from calm_tariff.core.routes import Agreement, Route, Rule
from calm_tariff.services.admit import applications
from calm_tariff.services.admit.desk import (
    asking,
    conversation,
    deciding,
    outside_decisions,
    outside_events,
    own_requests,
    undoing,
)
from calm_tariff.services.admit.desk.grants import Grant, OwnLimit
from calm_tariff.services.base import own_notices
from calm_tariff.services.base.context import Actor
from calm_tariff.services.observe import request_in_view
from calm_tariff.store.admit.subscriptions import Subscription, SubscriptionOverride, TrialHad
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.record import Mail
from tests.office import Office, terms


def subscription(office: Office, request: int) -> Subscription | None:
    with office.ctx.transaction() as session:
        return session.scalar(select(Subscription).where(Subscription.request_id == request))


def letters(office: Office, to: str = "anglers@consumer.example") -> list[tuple[str, bool]]:
    """The letters to somebody, and whether each may go out by now."""
    with office.ctx.transaction() as session:
        found = session.execute(
            select(Mail.subject, Job.run_at)
            .join(Job, Job.key == Mail.id)
            .where(Mail.recipient == to, Job.kind == "send a letter")
            .order_by(Mail.id)
        )
        return [(subject, run_at <= office.ctx.now) for subject, run_at in found]


def test_finance_agrees_where_much_is_expected_and_the_last_of_them_grants(office: Office) -> None:
    office.change_product(route=Route(otherwise="reviewed", agreements=(Agreement(role="finance", above=Decimal(30)),)))
    _, _, free = office.ask("Divers", "Skiff")
    assert deciding.decide(office.reviewer, free, "granted").state == "granted"
    member, _, request = office.ask("Anglers", "Ketch")  # €40 a month
    first = deciding.decide(office.reviewer, request, "granted", "fine")
    assert (first.state, first.needs, [a.seat for a in first.agreed]) == ("waiting", "finance", ["review"])
    assert subscription(office, request) is None
    with pytest.raises(NotAllowed, match="it waits for finance; you are product manager"):
        deciding.decide(office.manager, request, "granted")
    done = deciding.decide(office.finance, request, "granted", "they pay")
    assert (done.state, done.decided_by) == ("granted", "Beatriz")
    assert own_requests.one(office.ctx.acting(member), request).state == "granted"


def test_who_must_agree_may_decline_and_who_need_not_may_not(office: Office) -> None:
    office.change_product(route=Route(otherwise="reviewed", agreements=(Agreement(role="finance"),)))
    _, _, request = office.ask("Anglers", "Ketch")
    operations = office.ctx.acting(Actor("Tomas", frozenset({"operations"})))
    with pytest.raises(NotAllowed, match="it waits for a reviewer and finance; you are operations"):
        deciding.decide(operations, request, "declined", "No.")
    assert deciding.decide(office.finance, request, "declined", "They owe us money.").state == "declined"


def test_a_change_of_the_route_never_touches_what_is_under_way(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    office.change_product(route=Route(otherwise="outside"))
    assert deciding.decide(office.reviewer, request, "granted").state == "granted"
    _, _, later = office.ask("Divers", "Ketch")
    with pytest.raises(Conflict, match="outside system"):
        deciding.decide(office.reviewer, later, "granted")


def test_the_sandbox_is_open_and_what_goes_live_is_asked_for(office: Office) -> None:
    office.change_product(route=Route(otherwise="reviewed", rules=(Rule(step="open", environment="sandbox"),)))
    member = office.ctx.acting(office.join("Anglers"))
    sandbox = applications.register(member, "Trying", environment="sandbox").id
    live = applications.register(member, "Doing").id
    ketch = office.plans["Ketch"]
    assert asking.ask(member, sandbox, ketch, "To try it out.", True).state == "granted"
    assert asking.ask(member, live, ketch, "To do it then.", True).state == "waiting"
    with pytest.raises(Conflict, match="register another application"):
        applications.change(member, sandbox, "Trying", "", "live", "")


def test_after_the_agreements_an_outside_system_is_asked(office: Office) -> None:
    office.change_product(route=Route(otherwise="outside", agreements=(Agreement(role="finance"),)))
    _, _, request = office.ask("Anglers", "Ketch")
    with office.ctx.transaction() as session:
        assert session.scalar(select(Job).where(Job.kind == deciding.ASK_DESK)) is None
    assert deciding.decide(office.finance, request, "granted").state == "passed to outside"
    with office.ctx.transaction() as session:
        job = session.scalars(select(Job).where(Job.kind == deciding.ASK_DESK)).one()
        assert job.arguments == {"request": request}


def test_two_at_one_request_do_not_collide(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    deciding.decide(office.reviewer, request, "declined", "No.", edition=1)
    with pytest.raises(Stale) as late:
        deciding.decide(office.manager, request, "granted", edition=1)
    assert getattr(late.value.current, "state", "") == "declined"


def test_nobody_hears_of_a_decision_within_its_minute(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    before, heard = letters(office), own_notices.unread(own)
    deciding.decide(office.reviewer, request, "declined", "Name the source.")
    assert letters(office) == [*before, ("Harbour Data · Ketch: declined", False)]
    assert own_notices.unread(own) == heard and own_requests.one(own, request).state == "waiting"
    assert "Name the source." not in str(own_requests.one(own, request))
    office.clock.forward(seconds=61)
    assert letters(office)[-1] == ("Harbour Data · Ketch: declined", True)
    assert own_notices.unread(own) == heard + 1 and own_requests.one(own, request).state == "declined"
    with pytest.raises(Conflict, match="has been told"):
        undoing.undo(office.reviewer, request)


def test_an_undone_grant_is_as_if_it_had_not_been(office: Office) -> None:
    trial = {**terms(), "trial": {"days": 14}}
    office.draft("Ketch", trial)
    office.publish("keep")
    member, _, request = office.ask("Anglers", "Ketch")
    own = office.ctx.acting(member)
    before = letters(office)
    deciding.decide(office.reviewer, request, "granted")
    began = subscription(office, request)
    assert began is not None and began.state == "trial"
    office.clock.forward(seconds=30)
    undone = undoing.undo(office.reviewer, request)
    assert (undone.state, undone.agreed, undone.note, undone.undo_until) == ("waiting", [], "", None)
    assert [m.kind for m in own_requests.one(own, request).messages] == ["asked"]  # nothing is left of it for them
    office.clock.forward(hours=1)
    assert letters(office) == before and [p.state for p in applications.own(own)[0].plans] == ["waiting"]
    with office.ctx.transaction() as session:
        over = session.get_one(Subscription, began.id)
        assert (over.state, over.undone, over.request_id) == ("ended", True, None)
        assert all(stay.trial and stay.end_at is not None for stay in over.stays)  # what was called meanwhile is free
        assert session.scalars(select(TrialHad)).all() == []  # its trial was not had
    again = deciding.decide(office.manager, request, "granted")
    assert again.state == "granted" and [p.state for p in applications.own(own)[0].plans] == ["trial"]


def test_an_undone_decline_waits_again_and_may_be_granted(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    deciding.decide(office.reviewer, request, "declined", "No.", reason="The purpose is not clear")
    undone = undoing.undo(office.manager, request)
    assert (undone.state, undone.reason, undone.decided_by) == ("waiting", "", None)
    assert deciding.decide(office.reviewer, request, "granted").state == "granted"
    office.clock.forward(minutes=2)
    heard = [m.kind for m in own_requests.one(office.ctx.acting(member), request).messages]
    assert heard == ["asked", "granted"]
    assert [subject for subject, _ in letters(office)][-1] == "Harbour Data · Ketch: granted"


def test_what_was_asked_back_when_it_was_declined_rests_again_once_that_is_undone(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    conversation.ask_back(office.reviewer, request, "What for?")
    due = request_in_view.one(office.reviewer, request).request.due_at
    assert due is not None
    deciding.decide(office.reviewer, request, "declined", "Never mind.")
    office.clock.forward(seconds=20)
    assert undoing.undo(office.reviewer, request).state == "asked back"
    office.clock.forward(hours=1)
    rests = request_in_view.one(office.reviewer, request).request.due_at
    assert rests == due + timedelta(hours=1, seconds=20)


def test_who_has_no_say_in_a_decision_does_not_undo_it_or_tell_of_it(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    deciding.decide(office.reviewer, request, "granted")
    for role in ("operations", "finance"):
        for act in (undoing.undo, undoing.tell_now):
            with pytest.raises(NotAllowed):
                act(office.ctx.acting(Actor("Somebody", frozenset({role}))), request)
    assert undoing.undo(office.manager, request).state == "waiting"


@pytest.mark.parametrize("when", ["now", "later"])
def test_a_move_after_which_its_owner_made_another_is_not_undone(office: Office, when: str) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    wanted = asking.MoveAsked(
        kind="change plan",
        when=when,  # type: ignore[arg-type]
        plan_id=office.plans["Skiff"],
        purpose="We fetch less in winter.",
    )
    asked = asking.ask_to_move(own, one.subscription, wanted)
    assert asked is not None
    deciding.decide(office.reviewer, asked.id, "granted")
    asking.ask_to_move(own, one.subscription, asking.MoveAsked(kind="end", when="later"))
    with pytest.raises(Conflict, match="moved it once more"):
        undoing.undo(office.reviewer, asked.id)
    with office.ctx.transaction() as session:
        coming = session.get_one(Subscription, one.subscription).coming
        assert coming is not None and coming.kind == "end"


def test_it_can_be_told_at_once_and_is_not_to_be_undone_then(office: Office) -> None:
    member, _, request = office.ask("Anglers", "Ketch")
    deciding.decide(office.reviewer, request, "granted", "Welcome.")
    assert letters(office)[-1] == ("Harbour Data · Ketch: granted", False)
    undoing.tell_now(office.reviewer, request)
    assert letters(office)[-1] == ("Harbour Data · Ketch: granted", True)
    assert own_notices.unread(office.ctx.acting(member)) >= 1
    for late in (undoing.undo, undoing.tell_now):
        with pytest.raises(Conflict, match="has been told"):
            late(office.reviewer, request)


def test_an_undone_move_goes_on_where_it_was(office: Office) -> None:
    one = office.consumers[0]
    own = office.acting(one)
    asked = asking.ask_to_move(
        own,
        one.subscription,
        asking.MoveAsked(kind="change plan", plan_id=office.plans["Skiff"], purpose="We fetch less in winter."),
    )
    assert asked is not None
    office.clock.forward(hours=1)
    deciding.decide(office.reviewer, asked.id, "granted")
    office.clock.forward(seconds=20)
    undoing.undo(office.reviewer, asked.id)
    with office.ctx.transaction() as session:
        back = session.get_one(Subscription, one.subscription)
        plans = [(stay.revision.plan.name, stay.end_at is None) for stay in back.stays]
        assert (back.plan.name, back.state) == ("Ketch", "active")
        assert plans == [("Ketch", False), ("Skiff", False), ("Ketch", True)]
        starts = [stay.start_at for stay in back.stays]
        assert [stay.end_at for stay in back.stays][:2] == starts[1:] and starts == sorted(starts)
    deciding.decide(office.reviewer, asked.id, "granted")
    with office.ctx.transaction() as session:
        assert session.get_one(Subscription, one.subscription).plan.name == "Skiff"


def test_an_undone_move_for_later_leaves_no_trace_in_the_stays(office: Office) -> None:
    one = office.consumers[0]
    wanted = asking.MoveAsked(
        kind="change plan", when="later", plan_id=office.plans["Skiff"], purpose="From the first of next month on."
    )
    asked = asking.ask_to_move(office.acting(one), one.subscription, wanted)
    assert asked is not None
    with office.ctx.transaction() as session:
        before = [(s.revision_id, s.start_at, s.end_at) for s in session.get_one(Subscription, one.subscription).stays]
    deciding.decide(office.reviewer, asked.id, "granted")
    undoing.undo(office.reviewer, asked.id)
    with office.ctx.transaction() as session:
        found = session.get_one(Subscription, one.subscription)
        assert [(s.revision_id, s.start_at, s.end_at) for s in found.stays] == before and found.coming is None


NEXT = date(2026, 12, 1)
OWN_RATE = {"kind": "rate", "name": "Rate", "counted_per": "key", "calls": 50, "per_seconds": 1, "burst": 100}


def test_another_plan_free_days_and_a_limit_of_its_own_come_with_a_grant(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Skiff")
    until = date(2026, 12, 31)
    otherwise = Grant(plan_id=office.plans["Ketch"], trial_days=10, override=OwnLimit(limit=OWN_RATE, until=until))
    done = deciding.decide(office.reviewer, request, "granted", "For the regatta.", grant=otherwise)
    assert (done.state, done.plan) == ("granted", "Ketch")
    made = subscription(office, request)
    with office.ctx.transaction() as session:
        assert made is not None and made.plan.name == "Ketch" and made.state == "trial"
        found = session.get_one(Subscription, made.id)
        free = found.stays[0]
        assert free.trial and free.end_at is not None and free.end_at - office.ctx.now > timedelta(days=9)
        (own,) = session.scalars(select(SubscriptionOverride))
        assert (own.subscription_id, own.limit["calls"], own.made_by) == (made.id, 50, "Rui")
    undoing.undo(office.reviewer, request)
    with office.ctx.transaction() as session:
        assert session.scalars(select(SubscriptionOverride)).one().lifted_at is not None


@pytest.mark.parametrize(
    ("otherwise", "where"),
    [
        (Grant(plan_id=10**9), "grant.plan_id"),
        (Grant(trial_days=0), "grant.trial_days"),
        (Grant(trial_days=400), "grant.trial_days"),
        (Grant(override=OwnLimit(limit=OWN_RATE, until=date(2026, 9, 1))), "grant.override.until"),
        (
            Grant(override=OwnLimit(limit={**OWN_RATE, "calls": 0}, until=date(2026, 12, 1))),
            "grant.override.limit.calls",
        ),
        (Grant(override=OwnLimit(limit={"kind": "rate"}, until=date(2026, 12, 1))), "grant.override.limit.name"),
    ],
    ids=["plan", "no-days", "many-days", "past", "limit", "missing"],
)
def test_a_grant_that_means_nothing_changes_nothing(office: Office, otherwise: Grant, where: str) -> None:
    _, _, request = office.ask("Anglers", "Skiff")
    with pytest.raises((Invalid, Conflict)) as refused:
        deciding.decide(office.reviewer, request, "granted", grant=otherwise)
    assert refused.value.where == where
    assert subscription(office, request) is None


def test_who_agrees_to_something_else_has_the_others_agree_anew(office: Office) -> None:
    office.change_product(route=Route(otherwise="reviewed twice"))
    _, _, request = office.ask("Anglers", "Skiff")
    deciding.decide(office.reviewer, request, "granted")
    otherwise = Grant(trial_days=7)
    second = deciding.decide(office.manager, request, "granted", grant=otherwise)
    assert second.state == "waiting" and [a.name for a in second.agreed] == ["Ines"]
    done = deciding.decide(office.reviewer, request, "granted")  # to what is to be granted by now
    made = subscription(office, request)
    assert done.state == "granted" and made is not None and made.state == "trial"


def test_another_plan_goes_the_way_of_that_plan(office: Office) -> None:
    """Nobody slips past two people by asking for what one alone decides on."""
    twice = Rule(step="reviewed twice", plans=(office.plans["Ketch"],))
    office.change_product(route=Route(otherwise="reviewed", rules=(twice,)))
    _, _, request = office.ask("Anglers", "Skiff")
    first = deciding.decide(office.reviewer, request, "granted", grant=Grant(plan_id=office.plans["Ketch"]))
    assert (first.state, first.needs) == ("waiting", "a reviewer")
    assert deciding.decide(office.manager, request, "granted").plan == "Ketch"


def test_what_was_agreed_to_here_is_what_the_outside_system_grants(office: Office) -> None:
    office.change_product(route=Route(otherwise="outside", agreements=(Agreement(role="finance"),)))
    _, _, request = office.ask("Anglers", "Skiff")
    otherwise = Grant(plan_id=office.plans["Ketch"], trial_days=3)
    assert deciding.decide(office.finance, request, "granted", grant=otherwise).state == "passed to outside"
    event = outside_events.next_to_tell(office.ctx, request, "what both sides sign with, in turn")
    assert event is not None and b"Ketch in place of what was asked for" in event.signed.body
    outside_decisions.decide_outside(office.ctx, request, "granted", "Fine.")
    made = subscription(office, request)
    assert made is not None and (made.plan.name, made.state) == ("Ketch", "trial")


def test_back_to_what_was_asked_for_it_goes_the_way_of_that(office: Office) -> None:
    twice = Rule(step="reviewed twice", plans=(office.plans["Ketch"],))
    office.change_product(route=Route(otherwise="reviewed", rules=(twice,)))
    _, _, request = office.ask("Anglers", "Skiff")
    deciding.decide(office.reviewer, request, "granted", grant=Grant(plan_id=office.plans["Ketch"]))
    done = deciding.decide(office.manager, request, "granted", grant=Grant())
    assert (done.state, done.plan) == ("granted", "Skiff")


def test_a_token_acts_under_its_own_name_and_never_as_the_second_person(office: Office) -> None:
    script = office.ctx.acting(Actor("token nightly", frozenset({"reviewer"}), token_id=5))
    _, _, request = office.ask("Anglers", "Ketch")
    assert deciding.decide(script, request, "granted").decided_by == "token nightly"
    office.change_product(route=Route(otherwise="reviewed twice"))
    _, _, request = office.ask("Divers", "Ketch")
    with pytest.raises(Conflict, match="a service token is none"):
        deciding.decide(script, request, "granted")
