"""Whoever is invited to work here makes their own sign-in, once, with the roles they were invited as."""

from __future__ import annotations

from datetime import timedelta

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import inviting, people
from calm_tariff.services.house.inviting import ComingIn
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.store.base.paging import PageQuery
from tests.office import PASSWORD, Office
from tests.services.accounts import letters, signed_in, token_in
from tests.services.house.test_people import OWNER, RUI, owner, person

ANA = "ana@test.example"


def typed(office: Office, email: str = ANA, name: str = "Ana", password: str = PASSWORD) -> ComingIn:
    return ComingIn(token=token_in(letters(office.ctx, email)[-1]), name=name, password=password)


def test_an_invited_colleague_comes_in_with_the_roles_of_the_invitation(office: Office) -> None:
    made = inviting.invite(owner(office), f" {ANA.upper()} ", ["finance", "reviewer"])
    assert (made.email, made.roles, made.over) == (ANA, ["reviewer", "finance"], False)
    letter = letters(office.ctx, ANA)[-1]
    assert "as reviewer and finance" in letter.body and letter.confidential
    seen = inviting.seen(office.ctx, typed(office).token)
    assert (seen.provider, seen.invited_by, seen.roles) == ("Test Office", "owner", ["reviewer", "finance"])
    token = inviting.accept(office.ctx, typed(office))
    actor = sessions.who(office.ctx, PEOPLE, token)
    assert (actor.name, actor.roles) == ("Ana", {"reviewer", "finance"})
    assert person(office, ANA).joined_at == office.ctx.now
    assert inviting.everyone(owner(office)) == []
    assert sessions.sign_in(office.ctx, PEOPLE, ANA, PASSWORD)
    assert "Ana works at Test Office now" in [n.subject for n in letters(office.ctx, OWNER)]
    [entry] = auditing.entries(office.manager, PageQuery(words="accepted an invitation")).rows
    assert (entry.actor, entry.by, entry.after) == ("Ana", actor.identity, {"roles": ["reviewer", "finance"]})


def test_a_letter_is_good_once_for_a_while_and_until_the_next(office: Office) -> None:
    inviting.invite(owner(office), ANA, ["finance"])
    first = typed(office)
    inviting.invite(owner(office), ANA, ["owner"])
    assert [i.roles for i in inviting.everyone(owner(office))] == [["owner"]]
    for late in (first, ComingIn(token="made-up", name="Ana", password=PASSWORD)):
        with pytest.raises(NotFound, match="used, taken back, or is too old"):
            inviting.accept(office.ctx, late)
    again = typed(office)
    with pytest.raises(Invalid):  # what is refused uses nothing up
        inviting.accept(office.ctx, typed(office, password="short"))
    with pytest.raises(Invalid):
        inviting.accept(office.ctx, typed(office, name="\u202eAna"))
    inviting.accept(office.ctx, again)
    with pytest.raises(NotFound):
        inviting.accept(office.ctx, again)
    inviting.invite(owner(office), "tom@test.example", ["finance"])
    office.clock.now += inviting.WAITS
    with pytest.raises(NotFound):
        inviting.seen(office.ctx, typed(office, "tom@test.example").token)
    assert [i.over for i in inviting.everyone(owner(office))] == [True]
    office.clock.now += inviting.WAITS + timedelta(seconds=1)
    inviting.forget(office.ctx)
    assert inviting.everyone(owner(office)) == []


def test_an_invitation_is_taken_back(office: Office) -> None:
    made = inviting.invite(owner(office), ANA, ["finance"])
    inviting.take_back(owner(office), made.id)
    with pytest.raises(NotFound):
        inviting.accept(office.ctx, typed(office))
    with pytest.raises(NotFound):
        inviting.take_back(owner(office), made.id)


def test_nobody_is_invited_who_works_here_and_nobody_invites_but_owners(office: Office) -> None:
    with pytest.raises(Conflict, match="signs in with this address already"):
        inviting.invite(owner(office), RUI, ["finance"])
    people.deactivate(owner(office), person(office).id)
    with pytest.raises(Conflict, match="was deactivated; let them in again instead"):
        inviting.invite(owner(office), RUI, ["finance"])
    for wrong, where in (((ANA, []), "roles"), ((ANA, ["captain"]), "roles"), (("ana", ["finance"]), "email")):
        with pytest.raises(Invalid) as refused:
            inviting.invite(owner(office), *wrong)
        assert refused.value.where == where
    finance: Context = signed_in(office, "finance@test.example")
    for act in (
        lambda: inviting.invite(finance, ANA, ["owner"]),
        lambda: inviting.everyone(finance),
        lambda: inviting.take_back(finance, 1),
    ):
        with pytest.raises(NotAllowed):
            act()
    assert letters(office.ctx, ANA) == []


def test_whoever_joined_meanwhile_by_another_way_is_not_made_twice(office: Office) -> None:
    inviting.invite(owner(office), ANA, ["finance"])
    coming = typed(office)
    inviting.accept(office.ctx, coming)
    people.deactivate(owner(office), person(office, ANA).id)
    assert len([p for p in people.everybody(owner(office)) if p.email == ANA]) == 1
