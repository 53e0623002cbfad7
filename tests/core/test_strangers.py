"""Whose count a call without a credential is, and what bounds tries of the sandbox."""

import pytest

from calm_tariff.core import strangers
from calm_tariff.core.errors import Invalid
from calm_tariff.core.limits import Window


@pytest.mark.parametrize(
    ("address", "whose"),
    [
        ("203.0.113.9", "203.0.113.9"),
        ("::ffff:203.0.113.9", "203.0.113.9"),
        ("2001:db8:1:2:aaaa::1", "2001:db8:1:2::/64"),
        ("2001:db8:1:2:bbbb::9", "2001:db8:1:2::/64"),
        ("2001:db8:1:3::1", "2001:db8:1:3::/64"),
        ("fe80::1%eth0", "fe80::/64"),
        ("", "unknown"),
        ("unix:", "unknown"),
    ],
)
def test_whoever_has_an_ipv6_address_has_its_network_and_counts_once(address: str, whose: str) -> None:
    assert strangers.whose(address) == whose


def test_tries_are_counted_for_an_address_over_any_hour() -> None:
    (limit,) = strangers.trying(30).limits

    assert isinstance(limit, Window)
    assert (limit.calls, limit.per_seconds, limit.rolling, limit.counted_per) == (30, 3600, True, "address")


@pytest.mark.parametrize("calls", [0, -1, strangers.MOST_TRIES + 1])
def test_a_number_of_tries_that_makes_no_sense_is_refused_by_name(calls: int) -> None:
    with pytest.raises(Invalid) as refused:
        strangers.trying(calls)

    assert refused.value.where == "tries_an_hour"
