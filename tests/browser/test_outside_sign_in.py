"""Signing in through an outside provider: as somebody known, with a second factor, as somebody new; and set up in the
console."""

from __future__ import annotations

import re

import pyotp
from playwright.sync_api import Page, expect

from calm_tariff.demo import portals
from calm_tariff.standins import issuer
from tests.browser.conftest import People
from tests.browser.test_views import serious

PILOTS = "/portals/pilots"


def come_back_as(page: Page, name: str, portal: str = PILOTS, provider: str = "Coast identity") -> None:
    page.goto(f"{portal}/sign-in")
    page.get_by_role("button", name=f"Sign in through {provider}").click()
    page.get_by_role("link", name=re.compile(name)).click()


def test_the_demo_is_the_client_that_the_issuer_knows() -> None:
    assert (portals.CLIENT, portals.CLIENT_SECRET) == (issuer.CLIENT, issuer.CLIENT_SECRET)


def test_somebody_known_signs_in_and_sees_it_on_their_own_page_and_can_undo_it(people: People) -> None:
    page = people.page()
    page.goto(f"{PILOTS}/sign-in")
    assert serious(page) == []
    come_back_as(page, "Bento Farol")
    expect(page.get_by_role("heading", name="Applications")).to_be_visible()
    page.goto(f"{PILOTS}/you")
    through = page.get_by_role("region", name="Through others")
    expect(through).to_contain_text("You sign in through Coast identity")
    assert serious(page) == []
    through.get_by_role("button", name="no longer").click()
    expect(through).to_have_count(0)
    # The answer in the address was good once, and in that browser alone.
    page.go_back()
    other = people.page()
    other.goto(f"{PILOTS}/signed-in?code=made-up&state=made-up")
    expect(other.get_by_role("alert")).to_contain_text("begun in another browser")
    expect(other.get_by_role("link", name="Begin again")).to_be_visible()
    assert serious(other) == []


def test_somebody_new_makes_an_account_where_the_portal_takes_them(people: People) -> None:
    page = people.page()
    come_back_as(page, "Ruivo Pargo")
    expect(page.get_by_role("alert")).to_contain_text(re.compile("domain|address"))
    come_back_as(page, "Noa Maresia")
    expect(page.get_by_role("alert")).to_contain_text("verified no mail address")
    come_back_as(page, "Ondina Faro")
    expect(page.get_by_text("knows you as ondina@tugs.example")).to_be_visible()
    assert serious(page) == []
    page.get_by_label("Your organisation").fill("Faro Tugs")
    page.get_by_role("button", name="Make the account").click()
    expect(page.get_by_text(re.compile("looks at new organisations|waits|to be let in")).first).to_be_visible()


def test_a_portal_s_owner_sets_the_provider_and_a_second_factor_is_asked_for(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/admit/portals")
    ines.get_by_role("link", name="Larkmouth Tide Office").first.click()
    ines.get_by_role("button", name="through an outside provider, too").click()
    dialog = ines.get_by_role("dialog", name="Sign-in through an outside provider")
    expect(dialog).to_contain_text("/portal/signed-in")
    dialog.get_by_label("What people call it").fill("Harbour pass")
    dialog.get_by_label("Its issuer").fill("http://id.example")
    dialog.get_by_label("The portal’s client id there").fill(issuer.CLIENT)
    dialog.get_by_label("And its secret").fill(issuer.CLIENT_SECRET)
    dialog.get_by_role("button", name="Save").click()
    expect(dialog.get_by_role("alert")).to_contain_text("https")
    dialog.get_by_label("Its issuer").fill(f"{people.product.standins}/issuer")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_have_count(0)
    expect(ines.get_by_text("or through Harbour pass")).to_be_visible()

    page = people.page()
    entered = page.request.post(f"{PILOTS}/api/v1/session/demo", data={"email": "bento@larkmouth-pilots.example"})
    assert entered.ok
    page.goto(f"{PILOTS}/you")
    begun = page.request.post(f"{PILOTS}/api/v1/second-factor", data={"password": "larkmouth-demo"}).json()
    code = pyotp.TOTP(begun["secret"])
    recovery = page.request.post(f"{PILOTS}/api/v1/second-factor/confirm", data={"code": code.now()}).json()
    other = people.page()
    come_back_as(other, "Bento Farol", portal="/portal", provider="Harbour pass")
    other.get_by_label("Code").fill("000000")
    other.get_by_role("button", name="Go on").click()
    expect(other.get_by_role("alert")).to_contain_text("not right")
    other.get_by_label("Code").fill(recovery["codes"][0])
    other.get_by_role("button", name="Go on").click()
    expect(other.get_by_role("heading", name="Applications")).to_be_visible()
    ended = page.request.post(
        f"{PILOTS}/api/v1/second-factor/end", data={"password": "larkmouth-demo", "code": recovery["codes"][1]}
    )
    assert ended.ok
    ines.get_by_role("button", name="no longer", exact=True).click()
    expect(ines.get_by_role("button", name="through an outside provider, too")).to_be_visible()
