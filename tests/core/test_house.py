"""The roles of the house, and that somebody always owns it."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import house
from calm_tariff.core.errors import Conflict, Invalid
from calm_tariff.core.house import OWNER, ROLES, Employed

people = st.lists(st.tuples(st.sets(st.sampled_from(ROLES), min_size=1), st.booleans()), min_size=1, max_size=5).map(
    lambda drawn: [Employed(person=n, roles=frozenset(r), active=a) for n, (r, a) in enumerate(drawn)]
)


def owned(all_of: list[Employed]) -> bool:
    return any(e.active and OWNER in e.roles for e in all_of)


def test_roles_are_told_once_each_and_in_their_order() -> None:
    assert house.roles_of(["owner", "reviewer", "owner"]) == ("reviewer", "owner")
    for wrong, words in (
        ([], "at least one"),
        (["captain"], "captain is none of them"),
        (["owner", ""], "none of them"),
    ):
        with pytest.raises(Invalid, match=words) as refused:
            house.roles_of(wrong)
        assert refused.value.where == "roles"


@given(people, st.data())
def test_whatever_is_done_somebody_owns_the_house(all_of: list[Employed], data: st.DataObject) -> None:
    one = data.draw(st.sampled_from(all_of)).person
    roles = data.draw(st.sets(st.sampled_from(ROLES), min_size=1))
    for act, becomes in (
        (lambda: house.with_roles(all_of, one, roles), {one: frozenset(roles)}),
        (lambda: house.without(all_of, one), {}),
    ):
        try:
            then = act()
        except Conflict:
            others = [e for e in all_of if e.person != one]
            assert not owned(others)  # refused only where it was that one's doing
            continue
        assert owned(then) and [e.person for e in then] == [e.person for e in all_of]
        assert {e.person: e.roles for e in then} == {e.person: e.roles for e in all_of} | becomes


def test_an_owner_who_cannot_sign_in_owns_nothing() -> None:
    gone = Employed(person=1, roles=frozenset({OWNER}), active=False)
    here = Employed(person=2, roles=frozenset({OWNER, "finance"}))
    with pytest.raises(Conflict, match="somebody must own it"):
        house.without([gone, here], 2)
    with pytest.raises(Conflict):
        house.with_roles([gone, here], 2, ["finance"])
    assert not house.without([gone, here, Employed(person=3, roles=frozenset({OWNER}))], 2)[1].active
