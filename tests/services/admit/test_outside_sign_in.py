"""Signing in through an outside provider: who is found, who is told, and what cannot be had twice or by another."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotFound, NotSignedIn
from calm_tariff.formats.openid import Identity
from calm_tariff.services.admit import outside_sign_in
from calm_tariff.services.admit.members import MEMBERS, who_enter
from calm_tariff.services.admit.outside_sign_in import CameBack
from calm_tariff.services.admit.portals import identity_provider, portals, serving
from calm_tariff.services.admit.portals.identity_provider import IdentityProviderTyped
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import outside, sessions
from calm_tariff.store.admit.identities import IdentityProvider
from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.compose.groups import ConsumerGroup
from tests.office import PASSWORD, Office
from tests.services.accounts import letters
from tests.services.house.signing_in.test_second_factor import KAYAKS, acting, code, turned_on

TYPED = IdentityProviderTyped(
    name="Coast identity", issuer="http://127.0.0.1:9/issuer", client_id="portal", client_secret="shared-once"
)
SOMEBODY = Identity("s-1", KAYAKS, "Kai Ak")


@pytest.fixture
def here(office: Office) -> Context:
    """A context of somebody at the first portal, which takes sign-ins from a provider."""
    first = portals.listed(office.manager)[0].id
    identity_provider.set_provider(office.manager, first, TYPED)
    return office.ctx.acting(replace(office.ctx.actor, portal_id=first))


def portal(ctx: Context) -> PortalAsked:
    return serving.asked(ctx, "/portal")


def come_back(ctx: Context, who: Identity = SOMEBODY) -> CameBack:
    """Somebody goes to the provider and comes back as whom it names."""
    begun = outside_sign_in.begin(ctx, portal(ctx))
    outside_sign_in.waiting(ctx, portal(ctx), begun.state)
    return outside_sign_in.answered(ctx, portal(ctx), begun.state, who)


def test_whom_the_provider_names_by_a_verified_address_signs_in_and_is_told(office: Office, here: Context) -> None:
    came = come_back(here)

    who = sessions.who(office.ctx, who_enter(portal(here)), came.token)
    assert who.consumer == "Kayaks"
    (_,) = [one for one in letters(office.ctx, KAYAKS) if "through another provider" in one.subject]
    (linked,) = outside_sign_in.own(office.ctx.acting(who))
    assert linked.provider == "Coast identity"


def test_afterwards_it_is_the_provider_s_own_name_that_counts(office: Office, here: Context) -> None:
    come_back(here)

    moved = come_back(here, replace(SOMEBODY, email="ferries@consumer.example"))
    assert sessions.who(office.ctx, MEMBERS, moved.token).consumer == "Kayaks", "whatever address it tells"
    assert len([one for one in letters(office.ctx, KAYAKS) if "through another provider" in one.subject]) == 1


def test_an_address_that_is_not_verified_opens_no_account_and_makes_none(here: Context) -> None:
    with pytest.raises(Invalid, match="verified no mail address"):
        come_back(here, replace(SOMEBODY, email=""))


def test_a_second_factor_is_asked_for_as_ever(office: Office, here: Context) -> None:
    _, secret, _ = turned_on(office)
    begun = outside_sign_in.begin(here, portal(here))
    outside_sign_in.waiting(here, portal(here), begun.state)
    with pytest.raises(NotSignedIn) as asked:
        outside_sign_in.answered(here, portal(here), begun.state, SOMEBODY)
    assert asked.value.where == "code"
    with pytest.raises(NotSignedIn, match="not right"):
        outside_sign_in.go_on(here, portal(here), begun.state, "000000")
    assert outside_sign_in.own(acting_with(office, secret)) == []

    came = outside_sign_in.go_on(here, portal(here), begun.state, code(office, secret))

    assert sessions.who(office.ctx, MEMBERS, came.token).consumer == "Kayaks"


def acting_with(office: Office, secret: str) -> Context:
    token = sessions.sign_in(office.ctx, MEMBERS, KAYAKS, PASSWORD, code=code(office, secret))
    office.clock.forward(seconds=30)
    return office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))


def test_an_answer_is_good_once_for_its_own_portal_and_not_for_long(office: Office, here: Context) -> None:
    begun = outside_sign_in.begin(here, portal(here))
    other = portals.create(office.manager, "others", "Others")
    elsewhere = serving.asked(here, other.path)
    with pytest.raises(NotFound):
        outside_sign_in.waiting(here, elsewhere, begun.state)
    outside_sign_in.waiting(here, portal(here), begun.state)
    with pytest.raises(NotFound, match="answered already"):
        outside_sign_in.waiting(here, portal(here), begun.state)
    outside_sign_in.answered(here, portal(here), begun.state, SOMEBODY)
    with pytest.raises(NotFound, match="answered already"):
        outside_sign_in.go_on(here, portal(here), begun.state, "")
    with pytest.raises(NotFound):
        outside_sign_in.waiting(here, portal(here), "made-up")

    late = outside_sign_in.begin(here, portal(here))
    office.clock.now += outside.WAITS + timedelta(seconds=1)
    with pytest.raises(NotFound):
        outside_sign_in.waiting(here, portal(here), late.state)


def test_nobody_goes_on_before_the_provider_has_answered(here: Context) -> None:
    begun = outside_sign_in.begin(here, portal(here))

    with pytest.raises(NotFound):
        outside_sign_in.go_on(here, portal(here), begun.state, "")
    with pytest.raises(NotFound):
        outside_sign_in.open_account(here, portal(here), begun.state, "Kai", "Kai and Sons")


def test_who_has_no_account_makes_one_where_the_portal_takes_them_and_has_no_password(
    office: Office, here: Context
) -> None:
    new = Identity("s-2", "noa@new.example", "Noa")
    begun = outside_sign_in.begin(here, portal(here))
    outside_sign_in.waiting(here, portal(here), begun.state)
    assert outside_sign_in.answered(here, portal(here), begun.state, new) == CameBack("", "noa@new.example", "Noa")
    with pytest.raises(Conflict):
        outside_sign_in.open_account(here, portal(here), begun.state, "Noa", "Kayaks")

    token = outside_sign_in.open_account(here, portal(here), begun.state, "Noa", "Noa's Boats")

    assert sessions.who(office.ctx, MEMBERS, token).consumer == "Noa's Boats"
    for password in ("", "none", PASSWORD):
        with pytest.raises(NotSignedIn):
            sessions.sign_in(office.ctx, MEMBERS, "noa@new.example", password)
    assert sessions.who(office.ctx, MEMBERS, come_back(here, new).token).consumer == "Noa's Boats"


def test_a_portal_that_takes_nobody_makes_no_account_this_way_either(office: Office, here: Context) -> None:
    with office.ctx.transaction() as session:
        serving.first(session).sign_up = "nobody"

    with pytest.raises(Invalid):
        come_back(here, Identity("s-2", "noa@new.example", "Noa"))


def test_who_signs_in_elsewhere_is_not_let_in_here(office: Office, here: Context) -> None:
    other = portals.create(office.manager, "others", "Others")
    identity_provider.set_provider(office.manager, other.id, TYPED)
    with office.ctx.transaction() as session:
        group = ConsumerGroup(name="Some")
        session.add(group)
        session.get_one(Portal, other.id).groups = [group]
    there = serving.asked(here, other.path)
    begun = outside_sign_in.begin(here, there)
    outside_sign_in.waiting(here, there, begun.state)

    with pytest.raises(Invalid, match="does not sign in at this portal"):
        outside_sign_in.answered(here, there, begun.state, SOMEBODY)


def test_it_is_undone_by_whose_it_is_alone(office: Office, here: Context) -> None:
    came = come_back(here)
    own = office.ctx.acting(sessions.who(office.ctx, MEMBERS, came.token))
    (linked,) = outside_sign_in.own(own)
    other = acting(office, email="ferries@consumer.example")
    assert outside_sign_in.own(other) == []
    with pytest.raises(NotFound):
        outside_sign_in.unlink(other, linked.id)

    outside_sign_in.unlink(own, linked.id)

    assert outside_sign_in.own(own) == []


def test_the_client_s_secret_is_sealed_shown_to_nobody_and_stays_where_none_is_typed(
    office: Office, here: Context
) -> None:
    manager, first = office.manager, portal(here).id
    with office.ctx.transaction() as session:
        kept = session.get_one(IdentityProvider, first).client_secret
    assert "shared-once" not in kept
    view = identity_provider.set_provider(manager, first, replace(TYPED, name="Coast", client_secret=""))
    assert "shared-once" not in repr(view) and view.name == "Coast"
    with office.ctx.transaction() as session:
        assert identity_provider.client(session, here, first).secret == "shared-once"
        assert identity_provider.client(session, here, first).back.endswith("/portal/signed-in")
    for issuer in ("http://id.example", "ftp://id.example", "https://a:b@id.example", "nothing"):
        with pytest.raises(Invalid):
            identity_provider.set_provider(manager, first, replace(TYPED, issuer=issuer))
    identity_provider.remove(manager, first)
    with pytest.raises(NotFound, match="no outside provider"):
        outside_sign_in.begin(here, portal(here))
