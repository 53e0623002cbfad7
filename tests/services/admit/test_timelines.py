"""The stays of a subscription, as kept and as a timeline of the core's."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

from sqlalchemy.orm import Session

from calm_tariff.core import stays
from calm_tariff.core.periods import instant_of
from calm_tariff.core.stays import TrialUnits
from calm_tariff.services.admit import timelines
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from tests.office import START, Office

LATER = instant_of(START + timedelta(days=3))


def subscription(session: Session, office: Office) -> Subscription:
    return session.get_one(Subscription, office.consumers[0].subscription)


def test_a_timeline_is_read_as_it_was_kept(office: Office) -> None:
    with office.ctx.transaction() as session:
        of = subscription(session, office)
        before = timelines.of(of)
        changed = stays.changed(before, LATER, before[0].revision_id)
        timelines.keep(session, of, changed)
    with office.ctx.transaction() as session:
        after = timelines.of(subscription(session, office))
    assert [replace(stay, id=0) for stay in after] == [replace(stay, id=0) for stay in changed]
    assert after[0].id == before[0].id  # calls already recorded keep their stay
    assert [(s.start_us, s.end_us) for s in after] == [(instant_of(START), LATER), (LATER, None)]


def test_what_a_timeline_has_no_more_is_gone_and_nobody_elses_is_touched(office: Office) -> None:
    with office.ctx.transaction() as session:
        of = subscription(session, office)
        timelines.keep(session, of, stays.changed(timelines.of(of), LATER, timelines.of(of)[0].revision_id))
        timelines.keep(session, of, stays.cut_off(timelines.of(of), LATER - 1))
    with office.ctx.transaction() as session:
        kept = session.query(Stay).order_by(Stay.id).all()
        assert [(s.subscription_id, s.end_at is None) for s in kept] == [
            (office.consumers[0].subscription, False),
            (office.consumers[1].subscription, True),
        ]


def test_a_stay_ends_no_later_than_its_subscription(office: Office) -> None:
    with office.ctx.transaction() as session:
        stored = session.get_one(Stay, office.consumers[0].stay)
        assert timelines.stay_of(stored).end_us is None
        ended = START + timedelta(days=1)
        assert timelines.stay_of(stored, ended).end_us == instant_of(ended)
        stored.end_at = START + timedelta(hours=1)
        units = TrialUnits(meter="forecast_calls", units=20)
        stay = timelines.stay_of(stored, ended, units)
        assert (stay.end_us, stay.units) == (instant_of(START + timedelta(hours=1)), units)
        session.rollback()
