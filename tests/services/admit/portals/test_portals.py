"""Portals, made and changed by the provider's people; who comes in there, and what is found."""

from __future__ import annotations

from dataclasses import replace

import pytest

from calm_tariff.core.errors import CalmTariffError, Conflict, Invalid, NotAllowed, NotFound, NotSignedIn, Stale
from calm_tariff.core.portals import Brand, Entrance, Page
from calm_tariff.services.admit import applications, groups, letting_in, sign_up, terms_of_use
from calm_tariff.services.admit.desk import asking
from calm_tariff.services.admit.members import MEMBERS, who_enter
from calm_tariff.services.admit.portals import invitations, look, portals, serving, storefront
from calm_tariff.services.admit.portals.portals import PortalTyped, PortalView
from calm_tariff.services.admit.sign_up import SignUpTyped
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.signing_in import passwords, sessions
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import PageQuery
from tests.formats.test_pictures import encoded
from tests.office import PASSWORD, Office
from tests.services.accounts import GULLS, letters, token_in

BRAND = Brand(name="The Quay")
OPEN = PortalTyped(brand=BRAND)


def second(office: Office, typed: PortalTyped = OPEN) -> PortalView:
    """Another portal, as it was typed."""
    made = portals.create(office.manager, "quay", "The Quay")
    return portals.save(office.manager, made.id, made.edition, typed)


def visiting(office: Office, portal: PortalView, consumer: int | None = None) -> Context:
    """Whoever comes by a portal, signed in or not."""
    member = office.consumers[consumer].member if consumer is not None else office.ctx.actor
    return office.ctx.acting(replace(member, portal_id=portal.id))


def test_a_new_portal_shows_nothing_and_takes_nobody_before_that_is_said(office: Office) -> None:
    made = portals.create(office.manager, " Quay ", "The Quay")
    assert (made.path, made.address, made.first) == ("/portals/quay", "http://127.0.0.1:8400/portals/quay", False)
    assert storefront.products(visiting(office, made)) == []
    with pytest.raises(Invalid, match="no accounts are made here"):
        sign_up.ask(visiting(office, made), "gil@consumer.example")
    assert [p.path for p in portals.listed(office.reviewer)] == ["/portal", "/portals/quay"]
    for prefix, error in (("quay", Conflict), ("", Invalid), ("a/b", Invalid), ("api v1", Invalid)):
        with pytest.raises(error) as refused:
            portals.create(office.manager, prefix, "Again")
        assert refused.value.where == "prefix"


def test_only_a_product_manager_changes_portals_and_the_record_says_what(office: Office) -> None:
    portal = second(office)
    for change in (
        lambda ctx: portals.create(ctx, "x", "X"),
        lambda ctx: portals.save(ctx, portal.id, portal.edition, OPEN),
        lambda ctx: portals.remove(ctx, portal.id),
        lambda ctx: portals.set_picture(ctx, portal.id, "logo", None),
        lambda ctx: invitations.invite(ctx, portal.id, "a@x.example"),
    ):
        with pytest.raises(NotAllowed):
            change(office.finance)
        with pytest.raises(NotSignedIn):
            change(office.ctx)
    renamed = replace(OPEN, brand=replace(BRAND, name="The Long Quay"))
    saved = portals.save(office.manager, portal.id, portal.edition, renamed)
    with pytest.raises(Stale) as stale:
        portals.save(office.manager, portal.id, portal.edition, OPEN)
    assert stale.value.current == saved
    [entry] = auditing.entries(office.manager, PageQuery(words="The Long Quay")).rows
    assert (entry.before or {})["name"] == "The Quay" and (entry.after or {})["name"] == "The Long Quay"


@pytest.mark.parametrize(
    ("changed", "field"),
    [
        ({"products": [99]}, "products"),
        ({"groups": [99]}, "groups"),
        ({"host": "127.0.0.1:8400"}, "host"),
        ({"host": "localhost:8400"}, "host"),
        ({"host": "first.example"}, "host"),
        ({"brand": replace(BRAND, main_colour="#FFFFFF")}, "main_colour"),
        ({"entrance": Entrance(sign_up="mail domains")}, "mail_domains"),
        ({"pages": [Page(prefix="x", title="", text="")]}, "pages.0.title"),
    ],
)
def test_what_a_portal_cannot_be_changes_nothing(office: Office, changed: dict, field: str) -> None:
    first = portals.listed(office.manager)[0]
    portals.save(office.manager, first.id, first.edition, PortalTyped(brand=first.brand, host="first.example"))
    portal = second(office)
    with pytest.raises(CalmTariffError) as refused:
        portals.save(office.manager, portal.id, portal.edition, replace(OPEN, **changed))
    assert refused.value.where == field
    assert portals.one(office.manager, portal.id) == portal


def test_pages_and_pictures_are_those_of_their_portal_alone(office: Office) -> None:
    watch = Page(prefix="watch", title="The watch", text="Channel **12** <b>x</b>")
    portal = second(office, replace(OPEN, pages=[watch, replace(watch, prefix="more", title="More")]))
    # Each may take another's address.
    swapped = [replace(watch, prefix="more"), replace(watch, prefix="watch", title="More")]
    portal = portals.save(office.manager, portal.id, portal.edition, replace(OPEN, pages=swapped))
    assert [page.prefix for page in portal.pages] == ["more", "watch"]
    shown = look.page(office.ctx, portal.id, "more")
    assert shown.title == "The watch" and "<strong>12</strong> &lt;b&gt;" in shown.html
    first = portals.listed(office.manager)[0]
    with pytest.raises(NotFound):
        look.page(office.ctx, first.id, "more")
    logo = portals.set_picture(office.manager, portal.id, "logo", encoded("JPEG", (40, 20))).logo
    assert logo and (logo.width, logo.height) == (40, 20)
    assert look.picture(office.ctx, portal.id, logo.digest).startswith(b"\x89PNG")
    assert look.look(office.ctx, portal.id, "").logo == logo.digest
    with pytest.raises(NotFound):
        look.picture(office.ctx, first.id, logo.digest)
    other = portals.set_picture(office.manager, portal.id, "logo", encoded("PNG", (30, 30))).logo
    assert other and other.digest != logo.digest
    with pytest.raises(NotFound):
        look.picture(office.ctx, portal.id, logo.digest)
    assert portals.set_picture(office.manager, portal.id, "logo", None).logo is None


def test_what_a_portal_does_not_offer_is_not_there_by_any_way(office: Office) -> None:
    portal = second(office, replace(OPEN, everything=False))
    own = visiting(office, portal, 0)
    plan = office.plans["Skiff"]
    assert storefront.products(own) == []
    with pytest.raises(NotFound) as missing:
        storefront.product(own, "harbour-data")
    with pytest.raises(NotFound) as never:
        storefront.product(own, "never-was")
    assert missing.value.what == never.value.what
    office.consumers.append(office.admit("Gulls", "Skiff"))
    gull = visiting(office, portal, 2)
    application = office.consumers[2].application
    with pytest.raises(NotFound):
        asking.ask(gull, application, office.plans["Ketch"], "To have it all the same.", True)
    terms_of_use.accept_terms(gull, "harbour-data")  # who is on it still accepts its terms
    stranger = office.ctx.acting(replace(office.join("Strangers"), portal_id=portal.id))
    with pytest.raises(NotFound):
        terms_of_use.accept_terms(stranger, "harbour-data")
    offered = portals.save(
        office.manager, portal.id, portal.edition, replace(OPEN, everything=False, products=[office.product])
    )
    assert [p.name for p in storefront.products(visiting(office, offered))] == ["Harbour Data"]
    assert plan in [o.plan_id for o in storefront.product(own, "harbour-data").offers]


def test_a_portal_for_groups_takes_their_members_and_those_who_came_by_it(office: Office) -> None:
    group = groups.create(office.manager, "Pilots")
    groups.set_members(office.manager, group.id, [office.consumers[0].member.own_consumer])
    portal = second(office, replace(OPEN, groups=[group.id]))
    realm = who_enter(serving.asked(office.ctx, portal.path))
    token = sessions.sign_in(office.ctx, realm, "ferries@consumer.example", PASSWORD)
    assert sessions.who(office.ctx, realm, token).portal_id == portal.id
    with pytest.raises(NotSignedIn) as kept_out:
        sessions.sign_in(office.ctx, realm, "kayaks@consumer.example", PASSWORD)
    with pytest.raises(NotSignedIn) as nobody:
        sessions.sign_in(office.ctx, realm, "nobody@consumer.example", PASSWORD)
    assert kept_out.value.what == nobody.value.what
    elsewhere = sessions.sign_in(office.ctx, MEMBERS, "kayaks@consumer.example", PASSWORD)
    assert sessions.who(office.ctx, realm, elsewhere).consumer_id is None
    # A letter is sent to nobody who may not come in, and one of elsewhere is not good here.
    passwords.forgotten(office.ctx, realm, "kayaks@consumer.example")
    assert letters(office.ctx, "kayaks@consumer.example")[-1].subject.startswith("Harbour Data")
    passwords.forgotten(office.ctx, MEMBERS, "kayaks@consumer.example")
    letter = token_in(letters(office.ctx, "kayaks@consumer.example")[-1])
    with pytest.raises(NotFound):
        passwords.reset(office.ctx, realm, letter, "quite another one")
    assert passwords.reset(office.ctx, MEMBERS, letter, "quite another one")
    came = sign_up.open_account(visiting(office, portal), "gil@consumer.example", GULLS)
    assert sessions.who(office.ctx, realm, came).consumer == "Gulls"


def test_a_portal_that_is_taken_away_leaves_its_organisations_at_the_first(office: Office) -> None:
    portal = second(office, replace(OPEN, pages=[Page(prefix="x", title="X", text="")], products=[office.product]))
    portals.set_picture(office.manager, portal.id, "icon", encoded("PNG"))
    sign_up.open_account(visiting(office, portal), "gil@consumer.example", GULLS)
    invitations.invite(office.manager, portal.id, "eve@consumer.example")
    portals.remove(office.manager, portal.id)
    with pytest.raises(NotFound):
        serving.asked(office.ctx, "/portals/quay")
    with office.ctx.transaction() as session:
        homes = {c.name: c.portal.path for c in session.query(Consumer)}
    assert homes == dict.fromkeys(("Ferries", "Kayaks", "Gulls"), "/portal")
    first = portals.listed(office.manager)[0]
    assert invitations.listed(office.manager, first.id) == []
    with pytest.raises(NotFound):
        sign_up.confirm(office.ctx, token_in(letters(office.ctx, "eve@consumer.example")[0]), GULLS)
    with pytest.raises(Conflict):
        portals.remove(office.manager, first.id)


def test_an_organisation_that_waits_does_nothing_until_a_person_lets_it_in(office: Office) -> None:
    portal = second(office, replace(OPEN, entrance=Entrance(at_once=False)))
    realm = who_enter(serving.asked(office.ctx, portal.path))
    token = sign_up.open_account(visiting(office, portal), "gil@consumer.example", GULLS)
    waits = sessions.who(office.ctx, realm, token)
    assert (waits.consumer, waits.let_in) == ("Gulls", False)
    with pytest.raises(NotAllowed, match="Gulls has not been let in yet"):
        applications.register(office.ctx.acting(waits), "Gull app", "")
    consumer = waits.consumer_id or 0
    assert portals.one(office.manager, portal.id).waiting == 1
    with pytest.raises(NotAllowed):
        letting_in.answer(office.finance, consumer, "let in")
    with pytest.raises(Invalid) as refused:
        letting_in.answer(office.reviewer, consumer, "turned away", " ")
    assert refused.value.where == "note"
    letting_in.answer(office.reviewer, consumer, "turned away", "We know no Gulls.")
    letting_in.answer(office.reviewer, consumer, "let in", "Now we do.")
    with pytest.raises(Conflict):
        letting_in.answer(office.reviewer, consumer, "turned away", "After all.")
    assert sessions.who(office.ctx, realm, token).own_consumer == consumer
    away, come = letters(office.ctx, "gil@consumer.example")
    assert "We know no Gulls." in away.body and "/portals/quay/applications" in come.body


def test_who_was_invited_comes_in_where_others_do_not(office: Office) -> None:
    portal = second(office, replace(OPEN, entrance=Entrance(sign_up="by invitation")))
    here = visiting(office, portal)
    for email in ("gil@consumer.example", "eve@consumer.example"):
        with pytest.raises(Invalid, match="by invitation") as same:
            sign_up.ask(here, email)
    invitations.invite(office.reviewer, portal.id, "Gil@Consumer.example")
    with pytest.raises(Invalid) as still:  # an address that is invited is not told from others
        sign_up.ask(here, "gil@consumer.example")
    assert still.value.what == same.value.what
    [letter] = letters(office.ctx, "gil@consumer.example")
    assert "/portals/quay/confirm#" in letter.body and "Rui of Test Office invites" in letter.body
    elsewhere = office.ctx.acting(replace(here.actor, portal_id=portals.listed(office.manager)[0].id))
    with pytest.raises(NotFound):
        sign_up.confirm(elsewhere, token_in(letter), GULLS)
    office.clock.forward(days=13)
    assert sign_up.confirm(here, token_in(letter), GULLS)
    assert invitations.listed(office.manager, portal.id) == []
    with pytest.raises(Conflict):
        invitations.invite(office.reviewer, portal.id, "gil@consumer.example")


def test_an_invitation_is_renewed_taken_back_and_over(office: Office) -> None:
    portal = second(office, replace(OPEN, entrance=Entrance(sign_up="by invitation")))
    here = visiting(office, portal)
    invitations.invite(office.manager, portal.id, "gil@consumer.example")
    invitations.invite(office.manager, portal.id, "gil@consumer.example")
    first, second_one = (token_in(m) for m in letters(office.ctx, "gil@consumer.example"))
    with pytest.raises(NotFound):
        sign_up.confirm(here, first, GULLS)
    invitations.take_back(office.manager, portal.id, " GIL@consumer.example")
    with pytest.raises(NotFound):
        sign_up.confirm(here, second_one, GULLS)
    with pytest.raises(NotFound):
        invitations.take_back(office.manager, portal.id, "gil@consumer.example")
    invitations.invite(office.manager, portal.id, "gil@consumer.example")
    office.clock.forward(days=14)
    assert [i.over for i in invitations.listed(office.manager, portal.id)] == [True]
    with pytest.raises(NotFound):
        sign_up.confirm(here, token_in(letters(office.ctx, "gil@consumer.example")[-1]), GULLS)


def test_the_door_may_be_shut_between_a_letter_and_its_answer(office: Office) -> None:
    domains = replace(OPEN, entrance=Entrance(sign_up="mail domains", domains=("consumer.example",)))
    portal = second(office, domains)
    here = visiting(office, portal)
    with pytest.raises(Invalid, match=r"addresses at other\.example"):
        sign_up.ask(here, "gil@other.example")
    sign_up.ask(here, "gil@consumer.example")
    portals.save(office.manager, portal.id, portal.edition, replace(OPEN, entrance=Entrance(sign_up="nobody")))
    token = token_in(letters(office.ctx, "gil@consumer.example")[0])
    with pytest.raises(Invalid, match="no accounts are made here"):
        sign_up.confirm(here, token, SignUpTyped(name="Gil", organisation="Gulls", password=PASSWORD))
