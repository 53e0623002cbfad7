"""What a gateway is told: everything it decides by, of one moment, and nothing that is no longer good."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.core.periods import instant_of
from calm_tariff.services.admit import applications
from calm_tariff.services.base import stamps
from calm_tariff.services.serve import gateway_feed, history
from calm_tariff.services.serve.gateway_feed import read_feed
from calm_tariff.store.admit.subscriptions import Stay, Subscription
from tests.office import START, Office, terms


def test_credentials_are_told_with_what_bounds_them_and_never_as_they_are(office: Office) -> None:
    one = office.consumers[0]
    applications.revoke_key(office.acting(one), one.key)
    feed = read_feed(office.ctx)
    found = {c.key_id: c for c in feed.credentials}
    assert found[one.key].state == "revoked"  # told, so that its caller hears why
    assert found[office.consumers[1].key].state == "active"
    assert found[one.key].consumer_id == one.member.consumer_id
    assert one.secret not in repr(feed)


def test_a_feed_is_of_the_moment_its_number_says(office: Office) -> None:
    before = read_feed(office.ctx)
    assert before.number == stamps.number(office.ctx)
    office.draft("Ketch", terms(burst=40))
    office.publish("keep")
    office.admit("Anglers", "Ketch")
    after = read_feed(office.ctx)
    assert after.number > before.number
    burst = {limit.burst for t in after.terms.values() for limit in t.limits if limit.kind == "rate"}
    assert 40 in burst


def grants(office: Office) -> list[tuple[int, int | None]]:
    with office.ctx.transaction() as session:
        return [(g.start_us, g.end_us) for g in gateway_feed.grants(session, office.consumers[0].member.consumer_id)]


def test_what_is_to_come_is_told_beforehand_and_what_is_paused_is_not(office: Office) -> None:
    one = office.consumers[0]
    later = START + timedelta(days=2)
    with office.ctx.transaction() as session:
        session.get_one(Stay, one.stay).end_at = later
        session.add(Stay(subscription_id=one.subscription, revision_id=one.revision, start_at=later, trial=False))
    assert grants(office) == [(instant_of(START), instant_of(later)), (instant_of(later), None)]
    with office.ctx.transaction() as session:
        session.get_one(Subscription, one.subscription).ended_at = ended = START + timedelta(days=1)
    assert grants(office) == [(instant_of(START), instant_of(ended))]  # nothing after its end
    with office.ctx.transaction() as session:
        session.get_one(Subscription, one.subscription).state = "paused"
    assert grants(office) == []


def test_calls_are_read_in_the_order_they_were_decided(office: Office) -> None:
    one = office.consumers[0]
    came = [START + timedelta(seconds=n) for n in range(12)]
    decided = [instant_of(at) + (4_500_000 if n % 3 == 0 else 0) for n, at in enumerate(came)]
    calls = [office.call(one, at, n, decided_us=decided[n]) for n, at in enumerate(came)]
    calls.append(office.call(one, START, 99, verdict="refused", refused_by="Rate", units={}))
    history.take_in(office.ctx, calls)
    read = [c.decided_us for c in gateway_feed.calls_since(office.ctx, instant_of(START), at_once=4)]
    assert read == sorted(decided)
    later = instant_of(START + timedelta(seconds=6))
    assert len(list(gateway_feed.calls_since(office.ctx, later, at_once=4))) == 6
