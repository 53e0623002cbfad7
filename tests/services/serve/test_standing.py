"""What stands for subscriptions at a moment: the same quotas, by the same names, as decide at the gateway."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.services.admit import overrides
from calm_tariff.services.admit.overrides import OverrideTyped
from calm_tariff.services.serve import standing
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.services.serve.standing import HeldQuota
from tests.office import Office, terms


def held(office: Office, consumer: int | None = None) -> list[HeldQuota]:
    with office.ctx.transaction() as session:
        return standing.quotas(session, office.ctx.now, consumer)


def test_what_stands_is_what_decides_at_the_gateway(office: Office) -> None:
    office.admit("Anglers", "Skiff")
    snapshot = Snapshot(read_feed(office.ctx))
    deciding = {
        (compiled.scope, compiled.limit.name)
        for subscription in {h.subscription_id for h in held(office)}
        for compiled in snapshot.stack(subscription, "live", office.ctx.now_us).compiled
        if compiled.is_quota
    }
    assert {(h.scope, h.quota.name) for h in held(office)} == deciding
    assert len(deciding) == 2  # one for each plan, which counts each subscription by itself


def test_a_consumers_quotas_are_its_own(office: Office) -> None:
    first, second = (held(office, one.member.consumer_id) for one in office.consumers)
    assert [h.consumer_id for h in first] == [office.consumers[0].member.consumer_id]
    assert [h.consumer_id for h in second] == [office.consumers[1].member.consumer_id]
    assert held(office, 999_999) == []


def test_new_terms_stand_for_whoever_is_on_them(office: Office) -> None:
    office.draft("Ketch", terms(units=500))
    office.publish("keep")
    assert {h.quota.units for h in held(office)} == {100}  # those who stay keep theirs
    one = office.admit("Anglers", "Ketch")
    assert [h.quota.units for h in held(office, one.member.consumer_id)] == [500]


def test_a_subscriptions_own_limit_stands_in_the_plans_place_until_it_ends(office: Office) -> None:
    one = office.consumers[0]
    quota = {**terms()["limits"][1], "units": 777}
    until = (office.ctx.now + timedelta(days=3)).date()
    overrides.make(office.manager, one.subscription, OverrideTyped(quota, "A regatta.", until))
    assert [h.quota.units for h in held(office, one.member.consumer_id)] == [777]
    assert [h.quota.units for h in held(office, office.consumers[1].member.consumer_id)] == [100]
    office.clock.forward(days=5)
    assert [h.quota.units for h in held(office, one.member.consumer_id)] == [100]
