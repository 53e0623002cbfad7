"""What a credential is narrowed to: networks of both families, and operations."""

from __future__ import annotations

import pytest

from calm_tariff.core import bounds
from calm_tariff.core.bounds import Bounds
from calm_tariff.core.errors import Invalid


@pytest.mark.parametrize(
    ("address", "admitted"),
    [
        ("192.0.2.7", True),
        ("192.0.2.8", False),
        ("198.51.100.255", True),
        ("198.51.101.0", False),
        ("2001:db8::5", True),
        ("2001:db9::5", False),
        ("::ffff:192.0.2.7", True),  # the same as 192.0.2.7, as some sockets say it
        ("64:ff9b::c000:207", True),  # translated (RFC 6052)
        ("fe80::1%eth0", False),
        ("", False),
        ("not an address", False),
    ],
)
def test_an_address_is_admitted_by_one_of_the_networks(address: str, admitted: bool) -> None:
    named = bounds.networks(["192.0.2.7", "198.51.100.0/24", "2001:db8::/32"], "addresses")
    assert Bounds(named).admits_address(address) is admitted
    assert Bounds().admits_address(address)


def test_operations_are_those_named_or_all() -> None:
    assert Bounds(operations=frozenset({3})).admits_operation(3)
    assert not Bounds(operations=frozenset({3})).admits_operation(4)
    assert Bounds().admits_operation(4)


def test_networks_are_kept_each_once_and_wrong_ones_are_named() -> None:
    found = bounds.networks([" 192.0.2.9/24 ", "192.0.2.0/24", "10.0.0.1"], "addresses")
    assert [str(n) for n in found] == ["192.0.2.0/24", "10.0.0.1/32"]
    with pytest.raises(Invalid) as wrong:
        bounds.networks(["192.0.2.1", "192.0.2.300"], "addresses")
    assert wrong.value.where == "addresses.1" and "192.0.2.300" in wrong.value.what
    with pytest.raises(Invalid, match="at most 50"):
        bounds.networks([f"10.0.{n}.0/24" for n in range(51)], "addresses")


def test_nothing_kept_bounds_nothing() -> None:
    assert bounds.kept([], []) is None
    again = bounds.kept(["192.0.2.0/24"], [5])
    assert again is not None and again.admits_address("192.0.2.1") and not again.admits_operation(6)
