"""The provider's people: what each may do, and until when."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from threading import Barrier

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.core.house import ROLES
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.house import people
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import passwords, second_factor, sessions
from calm_tariff.store.base.paging import PageQuery
from tests.office import PASSWORD, Office
from tests.services.accounts import letters, signed_in, token_in
from tests.services.house.signing_in.test_second_factor import code, turned_on

OWNER, RUI = "owner@test.example", "reviewer@test.example"


def owner(office: Office) -> Context:
    return signed_in(office, OWNER)


def person(office: Office, email: str = RUI, by: Context | None = None) -> people.PersonView:
    return next(p for p in people.everybody(by or owner(office)) if p.email == email)


def enters(office: Office, email: str = RUI, **more: str) -> str:
    try:
        token = sessions.sign_in(office.ctx, PEOPLE, email, PASSWORD, **more)  # type: ignore[arg-type]
        return sessions.who(office.ctx, PEOPLE, token).in_words
    except NotSignedIn as error:
        return error.where


def test_a_person_acts_with_a_role_and_as_no_member(office: Office) -> None:
    with office.ctx.transaction() as session:
        account = PEOPLE.by_email(session, RUI)
        assert account is not None
        actor = PEOPLE.acting(account)
        assert PEOPLE.by_id(session, account.id) is account
    assert (actor.name, actor.roles, actor.person_id) == ("reviewer", {"reviewer"}, account.id)
    assert (actor.member_id, actor.consumer_id, actor.token_id) == (None, None, None)


def test_a_members_address_is_no_persons(office: Office) -> None:
    with office.ctx.transaction() as session:
        assert PEOPLE.by_email(session, office.consumers[0].email) is None
        assert PEOPLE.by_email(session, "nobody@test.example") is None


def test_people_are_offered_with_their_role_in_the_order_they_came(office: Office) -> None:
    with office.ctx.transaction() as session:
        offered = [(one.email, one.role) for one in PEOPLE.offered(session)]
    assert offered == [(f"{role.split()[0]}@test.example", role) for role in ROLES]


def test_whoever_holds_several_roles_may_do_what_any_of_them_may(office: Office) -> None:
    rui = person(office)
    held = signed_in(office, RUI)
    assert people.set_roles(owner(office), rui.id, ["finance", "reviewer"]).roles == ["reviewer", "finance"]
    held.actor.must_be("reviewer")
    now = signed_in(office, RUI).actor
    now.must_be("finance")
    now.must_be("reviewer")
    with pytest.raises(NotAllowed, match="for operations; you are signed in as reviewer and finance"):
        now.must_be("operations")
    [letter] = letters(office.ctx, RUI)
    assert "You are now reviewer and finance; before, reviewer. That was done by owner." in letter.body
    [entry] = auditing.entries(office.manager, PageQuery(words="gave somebody other roles")).rows
    assert (entry.before, entry.after) == ({"roles": ["reviewer"]}, {"roles": ["reviewer", "finance"]})
    people.set_roles(owner(office), rui.id, ["reviewer", "finance"])  # the same once more is no change
    assert len(letters(office.ctx, RUI)) == 1


def test_roles_are_given_by_owners_to_people_there_are_and_only_roles_there_are(office: Office) -> None:
    rui = person(office)
    for role in set(ROLES) - {"owner"}:
        other = signed_in(office, f"{role.split()[0]}@test.example")
        acts: tuple[Callable[[Context], object], ...] = (
            lambda by: people.set_roles(by, rui.id, ["owner"]),
            lambda by: people.deactivate(by, rui.id),
            lambda by: people.let_in_again(by, rui.id),
            lambda by: people.end_sessions(by, rui.id),
            lambda by: people.sessions_of(by, rui.id),
            lambda by: people.take_factor(by, rui.id),
            lambda by: people.require_factor(by, False),
            lambda by: people.everybody(by),
        )
        for act in acts:
            with pytest.raises(NotAllowed, match="this is for owner"):
                act(other)
    for wrong in ([], ["captain"]):
        with pytest.raises(Invalid) as refused:
            people.set_roles(owner(office), rui.id, wrong)
        assert refused.value.where == "roles"
    with pytest.raises(NotFound):
        people.set_roles(owner(office), 10**9, ["finance"])
    assert person(office).roles == ["reviewer"]


def test_the_last_owner_cannot_leave(office: Office) -> None:
    ctx, me, rui = owner(office), person(office, OWNER), person(office)
    for act in (lambda: people.set_roles(ctx, me.id, ["finance"]), lambda: people.deactivate(ctx, me.id)):
        with pytest.raises(Conflict, match="somebody must own it"):
            act()
    people.set_roles(ctx, rui.id, ["owner"])
    assert people.set_roles(ctx, me.id, ["finance"]).roles == ["finance"]
    with pytest.raises(Conflict):
        people.deactivate(signed_in(office, RUI), rui.id)


def test_of_two_owners_who_leave_at_once_one_stays(office: Office) -> None:
    people.set_roles(owner(office), person(office).id, ["owner"])
    both = [(signed_in(office, RUI), person(office).id), (owner(office), person(office, OWNER).id)]
    gate = Barrier(2)

    def leave(one: tuple[Context, int]) -> str:
        gate.wait()
        try:
            people.set_roles(one[0], one[1], ["finance"])
        except Conflict:
            return "stays"
        return "left"

    with ThreadPoolExecutor(2) as pool:
        assert sorted(pool.map(leave, both)) == ["left", "stays"]


def test_whoever_is_deactivated_can_do_nothing_more_and_can_be_let_in_again(office: Office) -> None:
    rui, token = person(office), sessions.sign_in(office.ctx, PEOPLE, RUI, PASSWORD)
    passwords.forgotten(office.ctx, PEOPLE, RUI)
    letter = token_in(letters(office.ctx, RUI)[-1])
    gone = people.deactivate(owner(office), rui.id)
    assert (gone.state, gone.deactivated_at, gone.sessions) == ("deactivated", office.ctx.now, 0)
    assert sessions.who(office.ctx, PEOPLE, token).roles == frozenset()
    assert enters(office) == "password"  # what is answered does not tell
    with pytest.raises(NotFound):
        passwords.reset(office.ctx, PEOPLE, letter, "another password")
    before = len(letters(office.ctx, RUI))
    passwords.forgotten(office.ctx, PEOPLE, RUI)
    assert len(letters(office.ctx, RUI)) == before
    assert "reviewer" not in [p.name for p in people.colleagues(office.manager)]
    assert people.everybody(owner(office))[-1].email == RUI
    assert people.let_in_again(owner(office), rui.id).state == "active"
    assert enters(office) == "reviewer"


def test_an_owner_sees_who_is_signed_in_where_and_ends_it(office: Office) -> None:
    tokens = [sessions.sign_in(office.ctx, PEOPLE, RUI, PASSWORD) for _ in range(2)]
    sessions.began_from(office.ctx, tokens[0], "192.0.2.7", "Almanac/1")
    office.clock.forward(minutes=5)
    sessions.who(office.ctx, PEOPLE, tokens[0])
    view = person(office)
    assert (view.sessions, view.seen_at, view.factor, view.passkeys) == (2, office.ctx.now, False, 0)
    shown = people.sessions_of(owner(office), view.id)
    assert [(s.address, s.this) for s in shown] == [("192.0.2.7", False), ("", False)]
    assert people.end_sessions(owner(office), view.id).sessions == 0
    assert [sessions.who(office.ctx, PEOPLE, t).roles for t in tokens] == [frozenset()] * 2


def test_a_lost_second_factor_is_turned_off_by_another_owner_and_told(office: Office) -> None:
    turned_on(office, PEOPLE, RUI)
    rui = person(office)
    assert rui.factor and enters(office) == "code"
    with pytest.raises(Conflict, match="there is none"):
        people.take_factor(owner(office), person(office, "finance@test.example").id)
    assert not people.take_factor(owner(office), rui.id).factor
    assert enters(office) == "reviewer"
    assert "turned off" in letters(office.ctx, RUI)[-1].subject
    [entry] = auditing.entries(office.manager, PageQuery(words="second factor off")).rows
    assert entry.actor == "owner"  # who did it, not whose it was
    own, _, _ = turned_on(office, PEOPLE, OWNER)
    with pytest.raises(Conflict, match="is your own"):
        people.take_factor(own, person(office, OWNER, own).id)
    assert second_factor.state(own, PEOPLE).on


def test_where_everybody_must_have_a_second_factor_nobody_does_anything_without_one(office: Office) -> None:
    with pytest.raises(Conflict, match="you have none yourself"):
        people.require_factor(owner(office), True)
    own, _, _ = turned_on(office, PEOPLE, OWNER)
    people.require_factor(own, True)
    assert people.factor_required(own)
    rui = signed_in(office, RUI)
    for act in (lambda: people.colleagues(rui), lambda: rui.actor.must_be("reviewer")):
        with pytest.raises(NotAllowed, match="turn one on first"):
            act()
    assert (rui.actor.roles, rui.actor.name) == (frozenset(), "reviewer")
    begun = second_factor.begin(rui, PEOPLE, PASSWORD)  # what they need for it they may do
    second_factor.confirm(rui, PEOPLE, code(office, begun.secret))
    office.clock.forward(seconds=30)
    typed = code(office, begun.secret)
    assert enters(office, code=typed) == "reviewer"
    office.clock.forward(seconds=30)
    with pytest.raises(Conflict, match="cannot be turned off"):
        second_factor.end(rui, PEOPLE, code(office, begun.secret), PASSWORD)
    people.require_factor(own, False)
    assert second_factor.state(rui, PEOPLE).on
    second_factor.end(rui, PEOPLE, code(office, begun.secret), PASSWORD)
    assert enters(office) == "reviewer"
