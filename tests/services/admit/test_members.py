"""A consumer's members, as those who sign in to the portal."""

from __future__ import annotations

import pytest

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.admit.members import MEMBERS, OFFERED
from tests.office import Office


def test_a_member_acts_for_its_own_consumer_and_with_no_role(office: Office) -> None:
    first, second = office.consumers
    with office.ctx.transaction() as session:
        found = [MEMBERS.by_email(session, one.email) for one in (first, second)]
        actors = [MEMBERS.acting(one) for one in found if one]
    assert [actor.own_consumer for actor in actors] == [first.member.consumer_id, second.member.consumer_id]
    assert actors[0].own_consumer != actors[1].own_consumer
    assert [actor.consumer for actor in actors] == ["Ferries", "Kayaks"]
    for actor in actors:
        with pytest.raises(NotSignedIn):
            actor.must_be("product manager", "reviewer", "operations", "finance")


def test_a_persons_address_is_no_members(office: Office) -> None:
    with office.ctx.transaction() as session:
        assert MEMBERS.by_email(session, "reviewer@test.example") is None


def test_a_demo_offers_a_few_members_and_no_more(office: Office) -> None:
    for number in range(OFFERED):
        office.join(f"Club{number}")
    with office.ctx.transaction() as session:
        offered = MEMBERS.offered(session)
    assert len(offered) == OFFERED
    assert [(one.email, one.role) for one in offered[:2]] == [
        (office.consumers[0].email, "Ferries, owner"),
        (office.consumers[1].email, "Kayaks, owner"),
    ]
