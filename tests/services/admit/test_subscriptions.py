"""Subscriptions begin, with or without a trial, and move to another plan."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import select

from calm_tariff.services.admit import subscriptions
from calm_tariff.services.base import auditing, stamps
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.base.record import Mail
from calm_tariff.store.compose.products import Plan
from tests.office import START, Consumer, Office, terms

# The end of the 14th day after START, by Lisbon's midnight in summer.
TRIAL_END = datetime(2026, 9, 23, 23, tzinfo=UTC)


def trial(then: str, units: str | None = None) -> dict:
    counted = {"units": units, "meter": "forecast_calls"} if units else {}
    return {**terms(), "trial": {"days": 14, "then": then, **counted}}


def admitted(office: Office, drafted: dict, organisation: str = "Anglers") -> Consumer:
    office.draft("Ketch", drafted)
    office.publish("keep")
    return office.admit(organisation, "Ketch")


def stays(office: Office, subscription: int) -> list[tuple[bool, datetime, datetime | None, datetime | None]]:
    with office.ctx.transaction() as session:
        kept = session.scalars(select(Stay).filter_by(subscription_id=subscription).order_by(Stay.start_at))
        return [(s.trial, s.start_at, s.end_at, s.due_at) for s in kept]


def state(office: Office, subscription: int) -> str:
    with office.ctx.transaction() as session:
        return session.get_one(Subscription, subscription).state


def test_without_a_trial_it_is_active_and_charged_from_its_first_instant(office: Office) -> None:
    one = office.consumers[0]
    assert state(office, one.subscription) == "active"
    assert stays(office, one.subscription) == [(False, START, None, None)]


def test_a_trial_ends_on_a_local_midnight_and_its_end_is_asked_for(office: Office) -> None:
    one = admitted(office, trial("charge"))
    assert state(office, one.subscription) == "trial"
    assert stays(office, one.subscription) == [(True, START, TRIAL_END, None), (False, TRIAL_END, None, None)]
    with office.ctx.transaction() as session:
        asked = session.scalars(select(Job).where(Job.kind == subscriptions.END_TRIAL)).all()
        assert [(job.arguments, job.run_at) for job in asked] == [({"subscription": one.subscription}, TRIAL_END)]


def test_what_follows_a_trial_of_units_is_due_at_any_call_and_nothing_follows_one_that_ends(office: Office) -> None:
    one = admitted(office, trial("charge", units="20"))
    assert stays(office, one.subscription)[1] == (False, TRIAL_END, None, START)
    other = admitted(office, trial("end"), "Divers")
    assert stays(office, other.subscription) == [(True, START, TRIAL_END, None)]


def test_a_move_ends_a_trial_begins_the_newest_terms_and_is_told(office: Office) -> None:
    one = admitted(office, trial("charge"))
    office.clock.forward(days=2)
    with office.manager.transaction() as session:
        stamps.hold(session, office.manager, stamps.SHIPPING)
        plan = session.get_one(Plan, office.plans["Skiff"])
        subscriptions.move_to(session, office.manager, session.get_one(Subscription, one.subscription), plan)
        newest = plan.revisions[-1].id
    moved = START + timedelta(days=2)
    assert state(office, one.subscription) == "active"
    assert stays(office, one.subscription) == [(True, START, moved, None), (False, moved, None, None)]
    with office.ctx.transaction() as session:
        last = session.scalars(
            select(Stay).filter_by(subscription_id=one.subscription).order_by(Stay.id.desc())
        ).first()
        assert last and last.revision_id == newest
        letter = session.scalars(select(Mail).where(Mail.recipient == one.email).order_by(Mail.id.desc())).first()
        assert letter and "Ketch" in letter.body and "Skiff" in letter.body
        others = session.scalars(select(Mail.recipient).where(Mail.subject == letter.subject)).all()
        assert set(others) == {one.email}  # nobody else's members hear of it
    entry = auditing.entries(office.manager, PageQuery()).rows[0]
    assert (entry.action, entry.before, entry.after) == ("moved a subscription", {"plan": "Ketch"}, {"plan": "Skiff"})
