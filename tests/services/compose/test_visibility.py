"""Who sees a product or a plan."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.services.compose.visibility import named, sees
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.products import Plan, Product
from tests.office import Office

PUBLIC, ALONE, ANY_OF_TWO = [], [1], [1, 2]


@pytest.mark.parametrize(
    ("groups", "mine", "seen"),
    [
        (PUBLIC, set(), True),
        (PUBLIC, {9}, True),
        (ALONE, set(), False),
        (ALONE, {2}, False),
        (ALONE, {1}, True),
        (ANY_OF_TWO, {2, 9}, True),
        (ANY_OF_TWO, {9}, False),
    ],
)
@pytest.mark.parametrize("kind", [Product, Plan])
def test_one_of_its_groups_is_enough_and_no_group_is_for_all(kind, groups, mine, seen) -> None:
    thing = kind(groups=[ConsumerGroup(id=n, name=f"group {n}") for n in groups])
    assert sees(thing, frozenset(mine)) is seen


def test_a_group_that_is_not_there_is_refused_by_its_field(office: Office) -> None:
    with office.ctx.transaction() as session:
        session.add(ConsumerGroup(name="Clubs"))
        session.flush()
        found = session.query(ConsumerGroup).one()
        assert named(session, [found.id, found.id]) == [found]
        assert named(session, []) == []
        with pytest.raises(Invalid) as refused:
            named(session, [found.id, found.id + 1])
    assert refused.value.where == "groups"
