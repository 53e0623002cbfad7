"""What those who listen hear of a subscription's life: each turn of it once, whatever brought it about."""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.routes import Route
from calm_tariff.services.admit import moves, overrides, suspending
from calm_tariff.services.admit.desk import deciding, undoing
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.serve import trials
from calm_tariff.services.settle.periods import charging
from calm_tariff.store.base.events import Event
from tests.office import START, Consumer, Office, terms
from tests.services.admit.test_moves import do
from tests.services.admit.test_subscriptions import TRIAL_END, admitted, trial


def heard(office: Office, topic: str, since: int = 0) -> list[str]:
    """The types of a topic that happened, in order."""
    with office.ctx.transaction() as session:
        query = select(Event.type).where(Event.type.startswith(f"{topic}."), Event.id > since).order_by(Event.id)
        return [of_type.removeprefix(f"{topic}.") for of_type in session.scalars(query)]


def last(office: Office) -> int:
    with office.ctx.transaction() as session:
        return session.scalars(select(Event.id).order_by(Event.id.desc())).first() or 0


@pytest.fixture
def one(office: Office) -> Consumer:
    office.change_product(route=Route(otherwise="open"))
    office.clock.forward(hours=5)
    return office.consumers[0]


def test_a_grant_tells_that_it_was_granted_and_that_a_subscription_began(office: Office) -> None:
    since = last(office)
    gulls = office.admit("Gulls", "Ketch")
    with office.ctx.transaction() as session:
        found = session.scalars(select(Event).where(Event.id > since).order_by(Event.id)).all()
        told = [e.type for e in found]
        assert told.index("request.made") < told.index("subscription.started") and "request.granted" in told
        began = next(e for e in found if e.type == "subscription.started")
        assert began.subject_id == gulls.subscription and began.consumer_id == gulls.member.consumer_id
        assert began.said == "Gulls app of Gulls is subscribed to Harbour Data · Ketch"
        assert began.detail == {"state": "active", "offer": "Harbour Data · Ketch"} and began.entry_id is None


def test_each_move_is_told_as_what_it_is(office: Office, one: Consumer) -> None:
    since = last(office)
    do(office, one, "pause")
    office.clock.forward(hours=1)
    do(office, one, "resume")
    do(office, one, "change plan", plan="Skiff")
    do(office, one, "end", "later")
    moves.take_back(office.acting(one), one.subscription)
    do(office, one, "end")
    assert heard(office, "subscription", since) == [
        "paused",
        "resumed",
        "plan_changed",
        "move_set",
        "move_taken_back",
        "ended",
    ]


def test_a_move_that_was_set_is_told_again_once_it_has_come(office: Office, one: Consumer) -> None:
    since = last(office)
    do(office, one, "change plan", "later", plan="Skiff")
    office.clock.now = START + timedelta(days=21)
    moves.come_true(office.ctx, one.subscription)
    moves.come_true(office.ctx, one.subscription)
    do(office, one, "end", "later")
    office.clock.forward(days=60)
    moves.come_true(office.ctx, one.subscription)
    assert heard(office, "subscription", since) == ["move_set", "plan_changed", "move_set", "ended"]


def test_a_trial_that_ends_into_nothing_ends_the_subscription_and_another_does_not(office: Office) -> None:
    admitted(office, trial("end"))
    since = last(office)
    office.clock.now = TRIAL_END + timedelta(minutes=1)
    assert trials.end_trials(office.ctx) == 1 and trials.end_trials(office.ctx) == 0
    assert heard(office, "subscription", since) == ["trial_ended", "ended"]


def test_a_trial_that_goes_on_is_told_as_over_alone(office: Office) -> None:
    admitted(office, trial("charge"))
    since = last(office)
    office.clock.now = TRIAL_END + timedelta(minutes=1)
    trials.end_trials(office.ctx)
    assert heard(office, "subscription", since) == ["trial_ended"]


def test_a_grant_that_is_undone_is_told_as_undone_and_ended(office: Office) -> None:
    _, _, request = office.ask("Gulls", "Ketch")
    since = last(office)
    deciding.decide(office.reviewer, request, "granted", "")
    undoing.undo(office.reviewer, request)
    assert heard(office, "request", since) == ["granted", "decision_undone"]
    assert heard(office, "subscription", since) == ["started", "ended"]
    with office.ctx.transaction() as session:
        ended = session.scalars(select(Event).where(Event.type == "subscription.ended", Event.id > since)).one()
        assert ended.detail == {"undone": True}


def test_overrides_suspensions_and_invoices_are_told_with_whose_they_are(office: Office, one: Consumer) -> None:
    since, whose = last(office), one.member.consumer_id
    assert whose is not None
    limit = {**terms()["limits"][0], "calls": 50}
    until = (office.ctx.now + timedelta(days=9)).date()
    overrides.make(office.manager, one.subscription, OverrideTyped(limit=limit, reason="A regatta.", until=until))
    suspending.suspend(office.manager, whose, "Does not pay.")
    suspending.resume(office.manager, whose)
    office.clock.now = START + timedelta(days=22)
    run = charging.run(office.finance, START.date().replace(day=1))
    assert run is not None
    assert heard(office, "subscription", since) == ["limit_overridden"]
    assert heard(office, "consumer", since) == ["suspended", "resumed"]
    assert heard(office, "charge_run", since) == ["made"]
    with office.ctx.transaction() as session:
        told = session.scalars(select(Event).where(Event.id > since, Event.type.in_(["subscription.limit_overridden"])))
        assert {e.consumer_id for e in told} == {whose}
