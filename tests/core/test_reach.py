"""Which addresses may be asked."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.reach import Reach, networks

OWN = frozenset({8400, 33406})


@pytest.mark.parametrize(
    ("address", "anywhere", "in_a_demo", "named"),
    [
        ("203.0.113.9", True, True, False),
        ("10.1.2.3", True, True, True),
        ("10.2.0.1", True, True, False),
        ("127.0.0.1", False, True, False),
        ("127.8.9.1", False, True, False),
        ("::1", False, True, False),
        ("0.0.0.0", False, False, False),
        ("::", False, False, False),
        ("169.254.169.254", False, False, False),
        ("fe80::1", False, False, False),
        ("fe80::1%eth0", False, False, False),
        ("224.0.0.1", False, False, False),
        ("255.255.255.255", False, False, False),
        ("ff02::1", False, False, False),
        ("::ffff:127.0.0.1", False, True, False),
        ("::ffff:169.254.169.254", False, False, False),
        ("::ffff:10.1.0.1", True, True, True),
        ("2002:7f00:1::", False, True, False),
        ("64:ff9b::7f00:1", False, True, False),
        ("64:ff9b::a01:203", True, True, True),
        ("2001:db8::1", True, True, False),
        ("fd00::5", True, True, True),
    ],
)
def test_where_the_product_may_ask(address: str, anywhere: bool, in_a_demo: bool, named: bool) -> None:
    inside = Reach(named=networks(["10.1.0.0/16", "fd00::/8"]))
    got = [reach.refusal(address, 443) == "" for reach in (Reach(), Reach(here=True), inside)]
    assert got == [anywhere, in_a_demo, named]


def test_a_network_that_is_named_may_be_this_machine_but_never_our_own_ports() -> None:
    reach = Reach(named=networks(["127.0.0.1", "169.254.0.0/16"]), here=True, own_ports=OWN)
    assert reach.refusal("127.0.0.1", 9000) == "" and reach.refusal("169.254.1.1", 80) == ""
    for address in ("127.0.0.1", "127.0.0.2", "::1", "::ffff:127.0.0.1", "0.0.0.0", "2002:7f00:1::"):
        for port in OWN:
            assert "own" in reach.refusal(address, port)
    assert reach.refusal("203.0.113.9", 8400) != "own"  # another machine's port of that number is not ours


def test_what_is_no_network_is_refused_by_the_setting() -> None:
    with pytest.raises(Invalid) as refused:
        networks(["10.0.0.0/33"])
    assert refused.value.where == "CALM_REACHES"
    with pytest.raises(ValueError, match="does not appear"):
        Reach().refusal("harbour", 80)
