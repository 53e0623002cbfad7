"""The provider's people signing in through the house's outside provider: who is found, with which roles, and who is
not let in."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, NotSignedIn
from calm_tariff.formats.openid import Identity
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house import people
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import identity_provider, outside, outside_sign_in, second_factor, sessions
from calm_tariff.services.house.signing_in.identity_provider import HouseProviderTyped
from calm_tariff.store.base.paging import PageQuery
from calm_tariff.store.house.identities import HouseIdentityProvider
from tests.office import PASSWORD, Office
from tests.services.accounts import letters, signed_in
from tests.services.house.signing_in.test_second_factor import code, turned_on
from tests.services.house.test_people import OWNER, RUI, owner, person

TYPED = HouseProviderTyped(
    name="Coast identity", issuer="http://127.0.0.1:9/issuer/", client_id="console", client_secret="shared-once"
)
BY_CLAIM = replace(TYPED, role_claim="teams", roles_by={"ledger": ["finance"], "helm": ["owner", "product manager"]})
RUI_THERE = Identity("s-7", RUI, "Rui")


def come_back(office: Office, who: Identity = RUI_THERE) -> str:
    begun = outside_sign_in.begin(office.ctx)
    outside_sign_in.waiting(office.ctx, begun.state)
    return outside_sign_in.answered(office.ctx, begun.state, who)


def acting(office: Office, token: str) -> Actor:
    return sessions.who(office.ctx, PEOPLE, token)


def named(who: Identity, *teams: Any, **more: Any) -> Identity:
    return replace(who, claims={"teams": list(teams), **more})


def test_who_works_here_signs_in_by_a_verified_address_and_afterwards_by_the_providers_name(office: Office) -> None:
    identity_provider.set_provider(owner(office), TYPED)
    actor = acting(office, come_back(office))
    assert (actor.name, actor.roles) == ("reviewer", {"reviewer"})
    assert "through another provider" in letters(office.ctx, RUI)[-1].subject
    moved = acting(office, come_back(office, replace(RUI_THERE, email=OWNER)))
    assert moved.person_id == actor.person_id, "whatever address it tells"
    assert len(letters(office.ctx, RUI)) == 1
    why = [e.why for e in auditing.entries(office.manager, PageQuery(words="signed in")).rows if e.subject == RUI]
    assert why[0] == "through Coast identity"


def test_nobody_else_is_let_in_without_a_claim_that_gives_roles(office: Office) -> None:
    identity_provider.set_provider(owner(office), TYPED)
    for who in (Identity("s-8", "ana@elsewhere.example", "Ana"), Identity("s-9", "", "Rui")):
        with pytest.raises(NotAllowed, match="nobody who works here has this address"):
            come_back(office, named(who, "helm"))
    people.deactivate(owner(office), person(office).id)
    with pytest.raises(NotAllowed, match="was deactivated"):
        come_back(office)


def test_a_claim_gives_roles_at_each_sign_in_and_lets_those_in_who_have_any(office: Office) -> None:
    identity_provider.set_provider(owner(office), BY_CLAIM)
    ana = Identity("s-8", "Ana@Test.example", "  Ana   Vaga ")
    actor = acting(office, come_back(office, named(ana, "ledger", "choir", 7)))
    assert (actor.name, actor.roles) == ("Ana Vaga", {"finance"})
    assert "Ana Vaga works at Test Office now" in [n.subject for n in letters(office.ctx, OWNER)]
    assert acting(office, come_back(office, named(ana, "helm"))).roles == {"product manager", "owner"}
    [entry] = auditing.entries(office.manager, PageQuery(words="took over roles")).rows
    assert (entry.before, entry.after) == ({"roles": ["finance"]}, {"roles": ["product manager", "owner"]})
    for teams in ((), ("choir",)):
        with pytest.raises(NotAllowed, match="gives you no role here"):
            come_back(office, named(ana, *teams))
    assert acting(office, come_back(office, replace(ana, claims={"teams": "ledger"}))).roles == {"finance"}
    odd = Identity("s-9", "odd@test.example", "\u202eAna")  # a name that could pose as another is not taken
    assert acting(office, come_back(office, named(odd, "ledger"))).name == "odd@test.example"
    with pytest.raises(NotAllowed, match="nobody who works here"):  # an address that is not verified makes nobody
        come_back(office, named(Identity("s-10", "", "Tom"), "helm"))


def test_a_claim_never_takes_the_last_owner_away(office: Office) -> None:
    identity_provider.set_provider(owner(office), BY_CLAIM)
    mine = Identity("s-1", OWNER, "O")
    assert acting(office, come_back(office, named(mine, "ledger"))).roles == {"finance", "owner"}
    people.set_roles(owner(office), person(office).id, ["owner"])
    assert acting(office, come_back(office, named(mine, "ledger"))).roles == {"finance"}


def test_a_second_factor_that_is_on_is_asked_for_and_one_that_is_demanded_is_the_providers(office: Office) -> None:
    identity_provider.set_provider(owner(office), BY_CLAIM)
    own, _, _ = turned_on(office, PEOPLE, OWNER)
    people.require_factor(own, True)
    ana = named(Identity("s-8", "ana@test.example", "Ana"), "ledger")
    assert acting(office, come_back(office, ana)).roles == {"finance"}
    assert signed_in(office, RUI).actor.stopped  # by password, everybody needs one
    office.clock.forward(seconds=60)
    rui = signed_in(office, RUI)
    secret = second_factor.begin(rui, PEOPLE, PASSWORD).secret
    second_factor.confirm(rui, PEOPLE, code(office, secret))
    office.clock.forward(seconds=30)
    begun = outside_sign_in.begin(office.ctx)
    outside_sign_in.waiting(office.ctx, begun.state)
    with pytest.raises(NotSignedIn) as asked:
        outside_sign_in.answered(office.ctx, begun.state, named(RUI_THERE, "ledger"))
    assert asked.value.where == "code" and person(office, by=own).roles == ["reviewer"]  # nothing is taken over yet
    with pytest.raises(NotSignedIn, match="not right"):
        outside_sign_in.go_on(office.ctx, begun.state, "000000")
    token = outside_sign_in.go_on(office.ctx, begun.state, code(office, secret))
    assert acting(office, token).roles == {"finance"}
    with pytest.raises(NotFound, match="answered already"):
        outside_sign_in.go_on(office.ctx, begun.state, code(office, secret))


def test_an_answer_is_good_once_for_a_while_and_for_the_provider_that_was_asked(office: Office) -> None:
    with pytest.raises(NotFound, match="no outside provider"):
        outside_sign_in.begin(office.ctx)
    identity_provider.set_provider(owner(office), TYPED)
    begun = outside_sign_in.begin(office.ctx)
    outside_sign_in.waiting(office.ctx, begun.state)
    for state in (begun.state, "made-up"):
        with pytest.raises(NotFound, match="answered already"):
            outside_sign_in.waiting(office.ctx, state)
    other = outside_sign_in.begin(office.ctx)
    identity_provider.set_provider(owner(office), replace(TYPED, issuer="http://127.0.0.1:9/another"))
    with pytest.raises(NotFound):
        outside_sign_in.waiting(office.ctx, other.state)
    with pytest.raises(NotFound):
        outside_sign_in.answered(office.ctx, begun.state, RUI_THERE)
    late = outside_sign_in.begin(office.ctx)
    office.clock.now += outside.WAITS
    with pytest.raises(NotFound):
        outside_sign_in.waiting(office.ctx, late.state)


def test_the_provider_is_set_by_an_owner_its_secret_sealed_and_what_gives_roles_is_checked(office: Office) -> None:
    ctx = owner(office)
    view = identity_provider.set_provider(ctx, BY_CLAIM)
    assert (view.issuer, view.back) == ("http://127.0.0.1:9/issuer", f"{office.ctx.web_address}/signed-in")
    assert view.roles_by == {"ledger": ["finance"], "helm": ["product manager", "owner"]}
    with office.ctx.transaction() as session:
        kept = session.get_one(HouseIdentityProvider, 1)
        assert "shared-once" not in kept.client_secret
        assert identity_provider.client(session, office.ctx).secret == "shared-once"
    again = identity_provider.set_provider(ctx, replace(TYPED, client_secret="", name="Coast"))
    assert (again.name, again.role_claim, again.roles_by) == ("Coast", "", {})
    wrongs: list[tuple[dict[str, Any], str]] = [
        ({"name": ""}, "name"),
        ({"issuer": "http://elsewhere.example"}, "issuer"),
        ({"issuer": "https://a:b@elsewhere.example"}, "issuer"),
        ({"client_id": ""}, "client_id"),
        ({"role_claim": "teams"}, "roles_by"),
        ({"role_claim": "teams", "roles_by": {"helm": ["captain"]}}, "roles_by[helm]"),
        ({"role_claim": "teams", "roles_by": {"helm": []}}, "roles_by[helm]"),
    ]
    for wrong, where in wrongs:
        with pytest.raises(Invalid) as refused:
            identity_provider.set_provider(ctx, replace(TYPED, **wrong))
        assert refused.value.where == where, wrong
    with pytest.raises(Conflict):
        identity_provider.set_provider(replace(ctx, sealing_secret=""), TYPED)
    other: Context = signed_in(office)
    for act in (
        lambda: identity_provider.of_house(other),
        lambda: identity_provider.set_provider(other, TYPED),
        lambda: identity_provider.remove(other),
    ):
        with pytest.raises(NotAllowed):
            act()
    identity_provider.remove(ctx)
    identity_provider.remove(ctx)
    assert identity_provider.of_house(ctx).name == ""
    with pytest.raises(Invalid, match="must not be empty"):
        identity_provider.set_provider(ctx, replace(TYPED, client_secret=""))
