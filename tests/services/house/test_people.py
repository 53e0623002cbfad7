"""The provider's people, as those who sign in to the console."""

from __future__ import annotations

from calm_tariff.services.house.people import PEOPLE
from tests.office import Office


def test_a_person_acts_with_a_role_and_as_no_member(office: Office) -> None:
    with office.ctx.transaction() as session:
        account = PEOPLE.by_email(session, "reviewer@test.example")
        assert account is not None
        actor = PEOPLE.acting(account)
        assert PEOPLE.by_id(session, account.id) is account
    assert (actor.name, actor.role, actor.person_id) == ("reviewer", "reviewer", account.id)
    assert (actor.member_id, actor.consumer_id, actor.token_id) == (None, None, None)


def test_a_members_address_is_no_persons(office: Office) -> None:
    with office.ctx.transaction() as session:
        assert PEOPLE.by_email(session, office.consumers[0].email) is None
        assert PEOPLE.by_email(session, "nobody@test.example") is None


def test_people_are_offered_with_their_role_in_the_order_they_came(office: Office) -> None:
    with office.ctx.transaction() as session:
        offered = [(one.email, one.role) for one in PEOPLE.offered(session)]
    assert offered == [
        (f"{role.split()[0]}@test.example", role) for role in ("product manager", "reviewer", "operations", "finance")
    ]
