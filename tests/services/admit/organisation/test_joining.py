"""Whoever is invited makes their own sign-in, once, and belongs to the organisation that invited them."""

from __future__ import annotations

from datetime import timedelta

import pytest

from calm_tariff.core.errors import Conflict, Invalid, NotAllowed, NotFound, TooMany
from calm_tariff.services.admit.members import MEMBERS, who_enter
from calm_tariff.services.admit.organisation import belonging, joining
from calm_tariff.services.admit.organisation.joining import Joining
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.admit.portals.serving import PortalAsked
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import sessions
from tests.office import PASSWORD, Office
from tests.services.accounts import letters, token_in

ANA = "ana@ferries.example"


def first(office: Office) -> PortalAsked:
    return serving.asked(office.ctx, "/portal")


def owner(office: Office, consumer: int = 0) -> Context:
    return office.ctx.acting(office.consumers[consumer].member)


def typed(office: Office, email: str = ANA, name: str = "Ana", password: str = PASSWORD) -> Joining:
    return Joining(token=token_in(letters(office.ctx, email)[-1]), name=name, password=password)


def joined(office: Office, role: str, email: str = ANA, name: str = "Ana") -> Context:
    """Somebody who has accepted an invitation of the first consumer."""
    joining.invite(owner(office), email, role)  # type: ignore[arg-type]
    token = joining.accept(office.ctx, first(office), typed(office, email, name))
    return office.ctx.acting(sessions.who(office.ctx, MEMBERS, token))


def test_an_invitation_leads_to_a_sign_in_of_ones_own(office: Office) -> None:
    made = joining.invite(owner(office), ANA.upper(), "billing")
    assert (made.email, made.role, made.over) == (ANA, "billing", False)
    letter = letters(office.ctx, ANA)[-1]
    assert "invites you to Ferries" in letter.subject and "as billing" in letter.body and "/portal/join#" in letter.body
    answer = typed(office)
    seen = joining.seen(office.ctx, first(office), answer.token)
    assert (seen.organisation, seen.email, seen.role) == ("Ferries", ANA, "billing")
    who = sessions.who(office.ctx, MEMBERS, joining.accept(office.ctx, first(office), answer))
    assert (who.name, who.consumer, who.membership) == ("Ana", "Ferries", "billing")
    assert belonging.organisation(owner(office)).invited == []
    assert [m.name for m in belonging.organisation(owner(office)).members] == ["Ferries owner", "Ana"]
    with pytest.raises(NotFound):
        joining.accept(office.ctx, first(office), answer)
    assert sessions.sign_in(office.ctx, who_enter(first(office)), ANA, PASSWORD)
    assert letters(office.ctx, "ferries@consumer.example")[-1].subject == "Ana belongs to Ferries now"


def test_only_owners_invite_and_see_who_is_invited(office: Office) -> None:
    ana = joined(office, "developer")
    made = joining.invite(owner(office), "rui@ferries.example", "developer")
    with pytest.raises(NotAllowed, match="this is for owner of Ferries; you belong to it as developer"):
        joining.invite(ana, "eva@ferries.example", "owner")
    with pytest.raises(NotAllowed):
        joining.take_back(ana, made.id)
    assert belonging.organisation(ana).invited == [] and len(belonging.organisation(ana).members) == 2
    with pytest.raises(NotFound):  # another organisation's
        joining.take_back(owner(office, 1), made.id)
    joining.take_back(owner(office), made.id)
    with pytest.raises(NotFound):
        joining.accept(office.ctx, first(office), typed(office, "rui@ferries.example"))


def test_a_newer_letter_replaces_the_one_before_and_each_is_good_for_a_fortnight(office: Office) -> None:
    joining.invite(owner(office), ANA, "developer")
    old = typed(office)
    joining.invite(owner(office), ANA, "billing")
    with pytest.raises(NotFound):
        joining.seen(office.ctx, first(office), old.token)
    new = typed(office)
    (waits,) = belonging.organisation(owner(office)).invited
    assert (waits.role, waits.expires_at - office.ctx.now) == ("billing", joining.WAITS)
    office.clock.forward(days=14)
    with pytest.raises(NotFound):
        joining.accept(office.ctx, first(office), new)
    assert belonging.organisation(owner(office)).invited[0].over  # it can still be seen, and made anew
    joining.forget(office.at(office.ctx.now + timedelta(days=14)))
    assert belonging.organisation(owner(office)).invited == []


def test_an_address_is_of_one_organisation_and_nobody_learns_of_which(office: Office) -> None:
    with pytest.raises(Conflict, match="belongs to it already"):
        joining.invite(owner(office), "ferries@consumer.example", "developer")
    made = joining.invite(owner(office), "kayaks@consumer.example", "developer")  # as any other is answered
    assert made.email == "kayaks@consumer.example"
    letter = letters(office.ctx, "kayaks@consumer.example")[-1]
    assert "another organisation" in letter.body and "#" not in letter.body
    joining.invite(owner(office), "gulls@consumer.example", "developer")
    answer = typed(office, "gulls@consumer.example")
    office.join("Gulls")
    with pytest.raises(Conflict, match="signs in for another organisation"):
        joining.accept(office.ctx, first(office), answer)


def test_what_is_typed_is_looked_at_and_the_letter_stays_good(office: Office) -> None:
    joining.invite(owner(office), ANA, "developer")
    for name, password, where in (("", PASSWORD, "name"), ("Ana", "short", "password")):
        with pytest.raises(Invalid) as wrong:
            joining.accept(office.ctx, first(office), typed(office, name=name, password=password))
        assert wrong.value.where == where
    with pytest.raises(Invalid):
        joining.invite(owner(office), "no address", "developer")
    assert joining.accept(office.ctx, first(office), typed(office))


def test_letters_of_an_organisation_are_counted(office: Office) -> None:
    for _ in range(3):
        joining.invite(owner(office), ANA, "developer")
    with pytest.raises(TooMany):
        joining.invite(owner(office), ANA, "developer")
    for n in range(16):
        joining.invite(owner(office), f"n{n}@ferries.example", "developer")
    with pytest.raises(TooMany):
        joining.invite(owner(office), "another@ferries.example", "developer")
