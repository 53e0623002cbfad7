"""A trial is free until its days or units are used."""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.services.serve import history, trials
from calm_tariff.services.settle.periods import charging, periods
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.base.paging import PageQuery
from tests.office import START, Office, terms

TRIAL = {**terms(), "trial": {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}}


def test_a_trial_whose_units_are_used_ends_where_nothing_follows_it(office: Office) -> None:
    office.draft("Ketch", {**TRIAL, "trial": {**TRIAL["trial"], "then": "end"}})
    office.publish("keep")
    new = office.admit("Anglers", "Ketch")
    with office.ctx.transaction() as session:
        new.stay = session.scalar(select(Stay.id).where(Stay.subscription_id == new.subscription))
    history.take_in(office.ctx, [office.call(new, START + timedelta(minutes=n), n) for n in range(20)])
    office.clock.now = START + timedelta(days=1)
    assert trials.end_trials(office.ctx) == 1
    with office.ctx.transaction() as session:
        subscription = session.get_one(Subscription, new.subscription)
        assert (subscription.state, subscription.ended_at) == ("ended", office.ctx.now)
        assert [s.end_at for s in subscription.stays] == [START + timedelta(minutes=19, microseconds=1)]


def test_a_trial_is_free_until_its_days_or_units_are_used_and_then_charged(office: Office) -> None:
    office.draft("Ketch", TRIAL)
    office.publish("keep")
    by_units, by_days = office.admit("Anglers", "Ketch"), office.admit("Divers", "Ketch")
    with office.ctx.transaction() as session:
        stays = session.scalars(select(Stay).where(Stay.subscription_id == by_days.subscription)).all()
        assert [(s.trial, s.end_at) for s in stays] == [(True, datetime(2026, 9, 23, 23, tzinfo=UTC)), (False, None)]
        by_units.stay = session.scalars(select(Stay.id).where(Stay.subscription_id == by_units.subscription)).first()
    assert trials.end_trials(office.ctx) == 0
    history.take_in(office.ctx, [office.call(by_units, START + timedelta(minutes=n), n) for n in range(25)])
    office.clock.now = START + timedelta(days=1)
    assert trials.end_trials(office.ctx) == 1
    office.clock.now = START + timedelta(days=15)
    assert trials.end_trials(office.ctx) == 1
    with office.ctx.transaction() as session:
        assert {s.state for s in session.scalars(select(Subscription))} == {"active"}
    office.clock.now = datetime(2026, 10, 2, tzinfo=UTC)
    charging.run(office.finance, date(2026, 9, 1))
    charges = {c.consumer: c.charge for c in periods.charges(office.finance, date(2026, 9, 1), PageQuery()).rows}
    # Divers: trial to the 23rd, then 7 of 30 days of 40. Anglers: the call that used the last of its units came on the
    # 10th, so 21 of 30 days, whoever was awake then; the trial's units are free.
    assert (charges["Divers"], charges["Anglers"]) == (Decimal("9.33"), Decimal("28.00"))
