"""Who is subscribed to what: counted only where calls are let through, and only of what was asked for."""

from __future__ import annotations

from datetime import timedelta

import pytest
from sqlalchemy.orm import Session

from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from tests.office import START, Office, terms


@pytest.fixture
def three(office: Office) -> Office:
    """Ferries and Kayaks on Ketch, Anglers on Skiff."""
    office.consumers.append(office.admit("Anglers", "Skiff"))
    return office


def put(session: Session, office: Office, place: int, state: str) -> None:
    session.get_one(Subscription, office.consumers[place].subscription).state = state
    session.flush()


def ids(office: Office, *places: int) -> set[int]:
    return {office.consumers[n].member.consumer_id or 0 for n in places}


@pytest.mark.parametrize(
    ("state", "calls", "subscribed"), [("active", 2, 3), ("trial", 2, 3), ("paused", 1, 3), ("ended", 1, 2)]
)
def test_who_is_paused_is_subscribed_and_does_not_count_and_who_has_ended_is_neither(
    three: Office, state: str, calls: int, subscribed: int
) -> None:
    ketch, skiff, product = three.plans["Ketch"], three.plans["Skiff"], three.product
    operation = three.operations["GET /stations"]
    with three.ctx.transaction() as session:
        put(session, three, 0, state)
        assert subscribers.subscriptions_by_plan(session, product) == {ketch: calls, skiff: 1}
        assert subscribers.subscriptions_by_product(session) == {product: calls + 1}
        assert subscribers.subscriptions_by_operation(session, [operation]) == {operation: calls + 1}
        calling = ids(three, *((0, 1, 2) if calls == 2 else (1, 2)))
        assert set(subscribers.consumers_calling(session, three.api)) == calling
        assert len(list(subscribers.revisions_in_force(session, START))) == calls + 1
        assert len(subscribers.consumers_subscribed(session, product)) == subscribed
        session.rollback()


def test_nothing_of_another_product_plan_or_version_is_counted(three: Office) -> None:
    with three.ctx.transaction() as session:
        assert subscribers.subscriptions_by_plan(session, three.product + 1) == {}
        assert subscribers.consumers_subscribed(session, three.product + 1) == set()
        assert subscribers.consumers_calling(session, three.api + 1) == {}
        assert subscribers.subscriptions_by_operation(session, [0]) == {}


def test_members_are_those_of_the_consumers_named(three: Office) -> None:
    with three.ctx.transaction() as session:
        found = subscribers.members_of(session, ids(three, 0, 2))
        assert [member.email for member in found] == [three.consumers[0].email, three.consumers[2].email]
        assert subscribers.members_of(session, []) == []


def test_a_revision_is_in_force_within_its_stay_and_held_also_before_it(three: Office) -> None:
    one = three.consumers[0]
    later = START + timedelta(days=2)
    with three.ctx.transaction() as session:
        stay = session.get_one(Stay, one.stay)
        stay.start_at, stay.end_at = later, later + timedelta(days=1)
        session.flush()
        for at, in_force, held in (
            (START, False, True),
            (later, True, True),
            (later + timedelta(days=1), False, False),
        ):
            now = {consumer.id for consumer, _ in subscribers.revisions_in_force(session, at)}
            assert (one.member.consumer_id in now) is in_force
            kept = session.scalars(subscribers.revisions_held(at)).all()
            assert (len(kept) == 3) is held
        session.rollback()


def test_limits_of_single_subscriptions_are_those_that_stand_now(three: Office) -> None:
    until = (START + timedelta(days=1)).date()
    typed = OverrideTyped({**terms()["limits"][0], "calls": 3}, "A regatta.", until)
    first = overrides.make(three.manager, three.consumers[0].subscription, typed)
    overrides.make(three.manager, three.consumers[1].subscription, typed)
    with three.ctx.transaction() as session:
        assert [limit["calls"] for limit in subscribers.limits_overridden(session, START)] == [3, 3]
        assert subscribers.limits_overridden(session, START + timedelta(days=3)) == []
    overrides.lift(three.manager, first.id)
    with three.ctx.transaction() as session:
        assert len(subscribers.limits_overridden(session, START)) == 1
