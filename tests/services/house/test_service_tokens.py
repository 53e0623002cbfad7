"""A token does what its owner may do, is used from somewhere, and ends."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from threading import Barrier

import pytest
from sqlalchemy import func, select

from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES
from calm_tariff.services.house import people, service_tokens
from calm_tariff.services.house import secret_places as places
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.people import Person
from calm_tariff.store.house.service_tokens import ServiceTokenPlace
from tests.office import Office
from tests.services.accounts import acts, signed_in, token_of


def test_a_token_does_what_its_owner_may_do_and_no_more(office: Office) -> None:
    made = {role: token_of(signed_in(office, f"{role.split()[0]}@test.example"), role) for role in ROLES}
    assert {role: acts(office, token) for role, token in made.items()} == {role: role for role in ROLES}
    script = office.ctx.acting(service_tokens.who_by(office.ctx, made["product manager"]))
    with pytest.raises(NotAllowed):  # a script makes no other
        token_of(script, "another")
    with pytest.raises(NotSignedIn):
        token_of(office.acting(office.consumers[0]), "a member's")
    with office.ctx.transaction() as session:
        session.scalars(select(Person).where(Person.email == "finance@test.example")).one().roles = ["reviewer"]
    assert acts(office, made["finance"]) == "the service token can do no more than its owner, who is no finance now"


def test_a_token_is_revoked_at_once_by_its_owner_or_one_of_the_house(office: Office) -> None:
    finance, rui, ines = (signed_in(office, f"{n}@test.example") for n in ("finance", "reviewer", "owner"))
    first, second = token_of(finance, "ledger"), token_of(finance, "other")
    ids = {t.label: t.id for t in service_tokens.everything(finance)}
    assert service_tokens.everything(rui) == []
    assert {t.label: t.mine for t in service_tokens.everything(ines)} == {"ledger": False, "other": False}
    with pytest.raises(NotFound):
        service_tokens.revoke(rui, ids["ledger"])
    assert acts(office, first) == "finance"
    assert service_tokens.revoke(finance, ids["ledger"]).state == "revoked"
    service_tokens.revoke(ines, ids["other"])
    assert {acts(office, t) for t in (first, second)} == {"the service token was revoked"}


def test_a_token_has_roles_of_its_makers_and_of_those_what_the_maker_still_has(office: Office) -> None:
    owner = signed_in(office, "owner@test.example")
    rui = next(p for p in people.everybody(owner) if p.name == "reviewer")
    people.set_roles(owner, rui.id, ["reviewer", "finance", "operations"])
    mine = signed_in(office, "reviewer@test.example")
    both, one = token_of(mine, "both", roles=("operations", "reviewer")), token_of(mine, "one", roles=("finance",))
    for beyond in (("owner",), ("finance", "product manager")):
        with pytest.raises(Invalid, match="you are no") as refused:
            token_of(mine, "more than I", roles=beyond)
        assert refused.value.where == "roles"
    assert (acts(office, both), acts(office, one)) == ("reviewer and operations", "finance")
    people.set_roles(owner, rui.id, ["reviewer"])
    assert acts(office, both) == "reviewer"
    assert acts(office, one) == "the service token can do no more than its owner, who is no finance now"
    people.set_roles(owner, rui.id, ["reviewer", "finance"])
    assert (acts(office, both), acts(office, one)) == ("reviewer", "finance")  # given again, it counts again
    people.deactivate(owner, rui.id)
    assert {acts(office, t) for t in (both, one)} == {
        "the service token can do no more than its owner, who was deactivated"
    }


def test_a_token_acts_under_its_own_name_and_within_its_scopes(office: Office) -> None:
    ines = signed_in(office)
    token = token_of(ines, "nightly", scopes=("read settle", "change compose"))
    [view] = service_tokens.everything(ines)
    assert view.scopes == ["change compose", "read settle"]
    actor = service_tokens.who_by(office.ctx, token)
    assert (actor.name, actor.identity, actor.person_id) == ("token nightly", f"token {view.id}", None)
    for scope in ("read settle", "read compose", "change compose"):
        actor.must_cover(scope)
    for scope in ("change settle", "read admit", "change house"):
        with pytest.raises(NotAllowed, match=f"needs the scope “{scope}”"):
            actor.must_cover(scope)
    signed_in(office).actor.must_cover("change house")  # a person is not narrowed
    with pytest.raises(Invalid) as refused:
        token_of(ines, "x", scopes=("read everything",))
    assert refused.value.where == "scopes"


def test_a_token_expires_and_says_so(office: Office) -> None:
    ines = signed_in(office)
    token = token_of(ines, "for a day", days=1)
    for days in (0, -1, 367):
        with pytest.raises(Invalid) as refused:
            token_of(ines, "x", days=days)
        assert refused.value.where == "days"
    office.clock.forward(hours=24)
    assert acts(office, token) == "the service token has expired"
    assert service_tokens.everything(ines)[0].state == "expired"


def test_use_from_a_new_place_is_on_the_record_once(office: Office) -> None:
    ines = signed_in(office)
    token = token_of(ines, "script")
    gate = Barrier(6)

    def one(_: int) -> str:
        gate.wait()
        return acts(office, token, "192.0.2.1")

    with ThreadPoolExecutor(6) as pool:
        assert set(pool.map(one, range(6))) == {"product manager"}
    acts(office, token, "198.51.100.7")
    acts(office, token, "192.0.2.1")
    found = [e.why for e in auditing.entries(office.manager, PageQuery("new place", rows=20)).rows]
    assert found == ["from 198.51.100.7", "from 192.0.2.1"]
    [view] = service_tokens.everything(ines)
    assert (view.used_at, view.used_from, view.places) == (office.clock.now, "192.0.2.1", 2)
    for n in range(places.MOST + 5):  # and is bounded
        acts(office, token, f"203.0.113.{n}")
    with office.ctx.transaction() as session:
        assert session.scalar(select(func.count()).select_from(ServiceTokenPlace)) == places.MOST


def test_when_a_token_was_used_is_kept_to_the_minute(office: Office) -> None:
    ines = signed_in(office)
    token = token_of(ines, "script")
    acts(office, token)
    first = office.clock.now
    office.clock.forward(seconds=59)
    acts(office, token)
    assert service_tokens.everything(ines)[0].used_at == first
    office.clock.forward(seconds=1)
    acts(office, token)
    assert service_tokens.everything(ines)[0].used_at == first + timedelta(minutes=1)
