"""What lets an application's calls through, told beforehand."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.core.periods import instant_of
from calm_tariff.core.stays import TrialUnits
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.values import read
from calm_tariff.services.serve.grants import freed, histories, of_all
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from calm_tariff.store.compose.products import PlanRevision
from tests.office import START, Office, terms


def grants(office: Office) -> list[tuple[int, int | None]]:
    with office.ctx.transaction() as session:
        return [(g.start_us, g.end_us) for g in of_all(session, office.consumers[0].member.consumer_id)]


def test_what_is_to_come_is_told_beforehand_and_nothing_after_the_end(office: Office) -> None:
    one = office.consumers[0]
    later = START + timedelta(days=2)
    with office.ctx.transaction() as session:
        session.get_one(Stay, one.stay).end_at = later
        session.add(Stay(subscription_id=one.subscription, revision_id=one.revision, start_at=later, trial=False))
    assert grants(office) == [(instant_of(START), instant_of(later)), (instant_of(later), None)]
    with office.ctx.transaction() as session:
        session.get_one(Subscription, one.subscription).ended_at = ended = START + timedelta(days=1)
    assert grants(office) == [(instant_of(START), instant_of(ended))]  # nothing after its end


def test_a_trial_is_told_with_the_units_that_end_it_and_what_is_charged_without(office: Office) -> None:
    office.draft(
        "Ketch", {**terms(), "trial": {"days": 14, "units": "20", "meter": "forecast_calls", "then": "charge"}}
    )
    office.publish("keep")
    new = office.admit("Anglers", "Ketch")
    with office.ctx.transaction() as session:
        free, charged = of_all(session, new.member.consumer_id)
        kept = session.get_one(PlanRevision, free.revision_id).terms
    revisions = {free.revision_id: read(PlanTerms, kept)}
    assert free.trial and freed(free, revisions).free == TrialUnits(meter="forecast_calls", units=20)
    assert (charged.trial, charged.start_us, freed(charged, revisions)) == (False, free.end_us, charged)


def test_stays_make_up_one_history_for_each_subscription(office: Office) -> None:
    one, two = office.consumers
    later = START + timedelta(days=2)
    with office.ctx.transaction() as session:
        session.get_one(Stay, one.stay).end_at = later
        session.add(Stay(subscription_id=one.subscription, revision_id=one.revision, start_at=later, trial=False))
    with office.ctx.transaction() as session:
        found = list(of_all(session))
    first, second = histories(found, {}, {office.product})
    assert [h.subscription_id for h in (first, second)] == [one.subscription, two.subscription]
    assert [(s.start_us, s.end_us) for s in first.stays] == [
        (instant_of(START), instant_of(later)),
        (instant_of(later), None),
    ]
    assert [s.id for s in second.stays] == [two.stay]
    assert first.anew
    assert not next(histories(found, {}, set())).anew
