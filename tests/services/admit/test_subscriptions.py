"""Subscriptions begin, with or without a trial, and move to another plan."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from threading import Barrier

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict
from calm_tariff.core.routes import Route
from calm_tariff.services.admit import applications, subscriptions
from calm_tariff.services.admit.desk import asking, deciding
from calm_tariff.services.admit.desk.asking import MoveAsked
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base import auditing, stamps
from calm_tariff.services.observe import request_in_view
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


def again(office: Office, of: Consumer, plan: str = "Ketch") -> str:
    """What becomes of another application of a consumer that asks for a plan."""
    own = office.acting(of)
    name = f"App {office.ctx.token()[:8]}"
    asked = asking.ask(own, applications.register(own, name, "").id, office.plans[plan], "Once more, please.", True)
    deciding.decide(office.reviewer, asked.id, "granted", "")
    return next(a for a in applications.own(own) if a.name == name).plans[0].state


def test_a_consumer_has_one_trial_of_a_product(office: Office) -> None:
    one = admitted(office, trial("charge"))
    office.draft("Skiff", {**trial("charge"), "limits": []})
    office.publish("keep")
    own = office.acting(one)
    offers = {offer.name: offer for offer in storefront.product(own, "harbour-data").offers}
    assert [(offers[name].trial_had, offers[name].nothing_else) for name in ("Skiff", "Ketch")] == [(True, False)] * 2
    assert not storefront.product(office.ctx, "harbour-data").offers[0].trial_had
    asking.ask_to_move(own, one.subscription, MoveAsked(kind="end"))
    assert state(office, one.subscription) == "ended"

    assert again(office, one) == "active"
    assert again(office, one, "Skiff") == "active"
    other = office.admit("Divers", "Ketch")
    assert state(office, other.subscription) == "trial"


def test_a_plan_that_is_nothing_but_a_trial_is_not_to_be_had_twice(office: Office) -> None:
    one = admitted(office, trial("end"))
    own = office.acting(one)
    second = applications.register(own, "Second", "").id
    (offer,) = (each for each in storefront.product(own, "harbour-data").offers if each.name == "Ketch")
    assert (offer.trial_had, offer.nothing_else) == (True, True)
    with pytest.raises(Conflict, match="the trial of Harbour Data was had already, and Ketch is nothing else"):
        asking.ask(own, second, office.plans["Ketch"], "Once more, please.", True)

    # Two that ask before either is granted: the second is told by whoever decides.
    owner, _, asked = office.ask("Terns", "Ketch")
    terns = office.ctx.acting(owner)
    other = asking.ask(terns, applications.register(terns, "Other", "").id, office.plans["Ketch"], "Also this.", True)
    deciding.decide(office.reviewer, asked, "granted", "")
    assert request_in_view.one(office.reviewer, other.id).background.trial_had
    with pytest.raises(Conflict, match="was had already"):
        deciding.decide(office.reviewer, other.id, "granted", "")
    assert deciding.decide(office.reviewer, other.id, "declined", "You have had it.").state == "declined"


def test_of_two_that_begin_at_once_one_has_the_trial(office: Office) -> None:
    office.draft("Ketch", trial("charge"))
    office.publish("keep")
    office.change_product(route=Route(otherwise="open"))
    own = office.ctx.acting(office.join("Terns"))
    made = [applications.register(own, f"App {n}", "").id for n in range(4)]
    together = Barrier(len(made))

    def subscribe(application: int) -> None:
        together.wait()
        asking.ask(own, application, office.plans["Ketch"], "All at once.", True)

    with ThreadPoolExecutor(len(made)) as pool:
        list(pool.map(subscribe, made))
    states = sorted(p.state for a in applications.own(own) for p in a.plans)
    assert states == ["active", "active", "active", "trial"]
