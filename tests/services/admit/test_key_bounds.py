"""Keys are narrowed by those who have them, to what their plans cover; one that takes their place is narrowed alike."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.services.admit import credentials, key_bounds
from calm_tariff.services.base import stamps
from calm_tariff.services.serve.gateway_feed import read_feed
from tests.office import Office


def test_a_key_is_narrowed_and_the_gateways_are_told(office: Office) -> None:
    ferries = office.consumers[0]
    own = office.acting(ferries)
    stations = office.operations["GET /stations"]
    before = stamps.number(office.ctx)
    made = key_bounds.narrow(own, ferries.key, ["192.0.2.7", "2001:db8::/32"], [stations, stations])
    assert (made.addresses, made.operations) == (["192.0.2.7/32", "2001:db8::/32"], [stations])
    assert stamps.number(office.ctx) > before
    kept = {c.key_id: c.bounds for c in read_feed(office.ctx).credentials}
    bound = kept[ferries.key]
    assert bound is not None and bound.admits_operation(stations) and not bound.admits_address("192.0.2.8")
    assert kept[office.consumers[1].key] is None
    new = credentials.rotate_key(own, ferries.key, 24)
    assert (new.key.addresses, new.key.operations) == (made.addresses, made.operations)
    assert read_feed(office.ctx).credentials[-1].bounds == bound
    wide = key_bounds.narrow(own, new.key.id, [], [])
    assert (wide.addresses, wide.operations) == ([], [])


def test_it_is_of_ones_own_and_within_ones_plans(office: Office) -> None:
    ferries = office.consumers[0]
    own = office.acting(ferries)
    assert [o.label for o in key_bounds.offered(own, ferries.application)] == list(office.operations)
    with pytest.raises(NotFound):
        key_bounds.narrow(own, office.consumers[1].key, [], [])
    with pytest.raises(NotFound):
        key_bounds.offered(own, office.consumers[1].application)
    stations = office.operations["GET /stations"]
    for addresses, operations, where in ((["here"], [], "addresses.0"), ([], [stations, 999], "operations.1")):
        with pytest.raises(Invalid) as wrong:
            key_bounds.narrow(own, ferries.key, addresses, operations)
        assert wrong.value.where == where
    credentials.revoke_key(own, ferries.key)
    with pytest.raises(Conflict, match="it is revoked"):
        key_bounds.narrow(own, ferries.key, [], [])
