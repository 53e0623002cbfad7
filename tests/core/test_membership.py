"""Somebody always owns an organisation's account, and each role may do its own part."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import membership
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.membership import AFTER_CLOSING, MAY, ROLES, STAY, Belongs, Role

ANA, RUI, EVA = Belongs(1, "owner"), Belongs(2, "developer"), Belongs(3, "billing")


def test_the_only_owner_can_neither_leave_nor_become_something_else() -> None:
    for wrong in (
        lambda: membership.without([ANA, RUI], 1),
        lambda: membership.given([ANA, RUI], 1, "developer"),
        lambda: membership.without([ANA], 1),
    ):
        with pytest.raises(Conflict, match="somebody must own the account"):
            wrong()
    two = membership.given([ANA, RUI], 2, "owner")
    assert membership.without(two, 1) == [Belongs(2, "owner")]
    assert membership.given(two, 1, "billing") == [Belongs(1, "billing"), Belongs(2, "owner")]


def test_what_one_owner_hands_over_another_has_alone() -> None:
    assert membership.handed_over([ANA, RUI, EVA], 1, 3) == [Belongs(1, "developer"), RUI, Belongs(3, "owner")]
    for to in (1, 9):
        with pytest.raises(Invalid, match="somebody else who belongs to it"):
            membership.handed_over([ANA, RUI], 1, to)


def test_a_role_is_one_of_three() -> None:
    assert [membership.role(each) for each in ROLES] == ["owner", "developer", "billing"]
    for wrong in ("Owner", "admin", ""):
        with pytest.raises(Invalid, match="owner, developer, billing"):
            membership.role(wrong)


def test_billing_sees_money_and_no_keys_developers_keys_and_no_money() -> None:
    may = {role: {act for act in MAY if role in MAY[act]} for role in ROLES}
    assert may["billing"] == {"see use", "see money", "say how it pays", "set alerts"}
    builds = {"see credentials", "run applications", "ask for plans", "ask and rate"}
    assert may["developer"] == {"see use", "set alerts", *builds}
    assert may["owner"] == set(MAY)
    assert set(AFTER_CLOSING) == {"see use", "see money"} and set(STAY) == {"owner", "billing"}


steps = st.lists(st.tuples(st.sampled_from(["role", "without", "over"]), st.integers(1, 5), st.sampled_from(ROLES)))


@given(steps)
def test_whatever_is_done_somebody_owns_it(done: list[tuple[str, int, Role]]) -> None:
    now = [Belongs(1, "owner"), *(Belongs(n, "developer") for n in range(2, 6))]
    for what, member, role in done:
        try:
            if what == "role":
                now = membership.given(now, member, role)
            elif what == "without":
                now = membership.without(now, member)
            else:
                now = membership.handed_over(now, next(m.member for m in now if m.role == "owner"), member)
        except (Conflict, Invalid):
            pass
        assert any(m.role == "owner" for m in now)
        assert len({m.member for m in now}) == len(now)
