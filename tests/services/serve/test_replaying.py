"""What is recorded, read back in the order it was decided."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.core.periods import instant_of
from calm_tariff.services.admit import credentials
from calm_tariff.services.serve import history
from calm_tariff.services.serve.replaying import calls_since, every_stay, open_quotas
from tests.office import START, Office, terms


def test_calls_are_read_in_the_order_they_were_decided(office: Office) -> None:
    one = office.consumers[0]
    came = [START + timedelta(seconds=n) for n in range(12)]
    decided = [instant_of(at) + (4_500_000 if n % 3 == 0 else 0) for n, at in enumerate(came)]
    calls = [office.call(one, at, n, decided_us=decided[n]) for n, at in enumerate(came)]
    calls.append(office.call(one, START, 99, verdict="refused", refused_by="Rate", units={}))
    history.take_in(office.ctx, calls)
    read = [c.decided_us for c in calls_since(office.ctx, instant_of(START), at_once=4)]
    assert read == sorted(decided)
    later = instant_of(START + timedelta(seconds=6))
    assert len(list(calls_since(office.ctx, later, at_once=4))) == 6


def test_counts_are_restored_from_the_windows_that_are_open(office: Office) -> None:
    one = office.consumers[0]
    history.take_in(office.ctx, office.counted([office.call(one, START + timedelta(seconds=n), n) for n in range(3)]))
    (count,) = open_quotas(office.ctx, instant_of(START))
    assert (count.units, count.begin_us <= instant_of(START) < count.end_us) == (3, True)
    assert open_quotas(office.ctx, count.end_us) == []  # its month is over
    assert open_quotas(office.ctx, count.end_us - 1) != []


def test_every_subscription_is_read_with_its_terms_of_all_times_and_its_keys(office: Office) -> None:
    one, two = office.consumers
    credentials.revoke_key(office.acting(one), one.key)
    office.draft("Ketch", terms(fee="50"))
    office.publish("next period")
    first, second = every_stay(office.ctx)
    assert (first.consumer, first.application, first.keys) == ("Ferries", "Ferries app", (one.key,))
    assert (second.consumer_id, second.product_id, second.plan_id) == (
        two.member.consumer_id,
        office.product,
        office.plans["Ketch"],
    )
    fees = [[str(p.amount) for p in t.pricing.prices if p.kind == "fee"] for _, _, t, _ in first.stays]
    assert fees == [["40"], ["50"]]
    assert first.stays[0][0] == one.stay and first.stays[0][3] == instant_of(START)
