"""What a gateway is told: everything it decides by, of one moment, and nothing that is no longer good."""

from __future__ import annotations

from calm_tariff.services.admit import credentials
from calm_tariff.services.base import stamps
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office, terms


def test_credentials_are_told_with_what_bounds_them_and_never_as_they_are(office: Office) -> None:
    one = office.consumers[0]
    credentials.revoke_key(office.acting(one), one.key)
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
