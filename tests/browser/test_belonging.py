"""Who belongs to an organisation, what guards their sign-in, and closing its account, in the browser."""

from __future__ import annotations

import re

import httpx
import pyotp
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_house import letter_link
from tests.browser.test_views import serious
from tests.processes import Processes

PASSWORD = "a storm in spring"


def newcomer(people: People, product: Processes, name: str, organisation: str) -> Page:
    """Somebody who has just signed up, on the page that this leads to."""
    email = f"{name.lower()}@{organisation.lower()}.example"
    httpx.post(f"{product.web}/portal/api/v1/sign-up", json={"email": email}).raise_for_status()
    page = people.page()
    page.goto(letter_link(product, email))
    page.get_by_label("Your name").fill(name)
    page.get_by_label("Your organisation").fill(organisation)
    page.get_by_label("New password").fill(PASSWORD)
    page.get_by_role("button", name="Make the account").click()
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    return page


def sign_in(page: Page, email: str) -> None:
    page.goto("/portal/sign-in")
    page.get_by_label("E-mail address").fill(email)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in").click()


def test_a_billing_member_is_invited_sees_invoices_and_no_keys_and_is_gone_when_removed(
    people: People, product: Processes
) -> None:
    leonor = people.member("Leonor")
    leonor.get_by_role("link", name="Gannet Ferries").click()
    invite = leonor.get_by_role("region", name="Invite somebody")
    invite.get_by_label("Their mail address").fill("leonor@gannet.example")
    invite.get_by_role("button", name="Send an invitation").click()
    expect(invite.get_by_role("alert")).to_contain_text("Leonor Brisa belongs to it already, as owner")
    invite.get_by_label("Their mail address").fill("ana@gannet.example")
    invite.get_by_label("As").select_option("billing")
    invite.get_by_role("button", name="Send an invitation").click()
    expect(invite.get_by_role("status")).to_contain_text("A letter to ana@gannet.example is on its way")
    waits = leonor.get_by_role("region", name="Invited").get_by_role("row").filter(has_text="ana@gannet.example")
    expect(waits).to_contain_text("billing")

    ana = people.page()
    ana.goto(letter_link(product, "ana@gannet.example"))
    expect(ana.get_by_role("heading", name="Gannet Ferries")).to_be_visible()
    expect(ana.get_by_text("Leonor Brisa invites you to belong to it as billing.")).to_be_visible()
    assert serious(ana) == []
    ana.get_by_label("Your name").fill("Ana Livro")
    ana.get_by_label("New password").fill(PASSWORD)
    ana.get_by_role("button", name="Accept the invitation").click()
    expect(ana.get_by_role("heading", name="My applications")).to_be_visible()
    expect(ana.get_by_role("button", name="Register an application")).to_have_count(0)
    ana.get_by_role("link", name="Timetable").click()
    expect(ana.get_by_text("Its keys are for owners and developers of Gannet Ferries.")).to_be_visible()
    assert "calmkey" not in ana.content()
    ana.get_by_role("link", name="how it stands").first.click()
    expect(ana.get_by_text("Owners of Gannet Ferries change, pause and end it.")).to_be_visible()
    ana.get_by_role("link", name="Invoices").click()
    expect(ana.get_by_role("link", name=re.compile(r"INV-\d{4}-\d{5}")).first).to_be_visible()
    ana.get_by_role("link", name="Gannet Ferries").click()
    expect(ana.get_by_role("row").filter(has_text="Ana Livro, you")).to_contain_text("billing")
    expect(ana.get_by_role("region", name="Invite somebody")).to_have_count(0)

    leonor.reload()
    leonor.get_by_label("What Ana Livro is").select_option("developer")
    expect(leonor.get_by_label("What Ana Livro is")).to_have_value("developer")
    expect(leonor.get_by_label("What Ana Livro is")).to_be_enabled()
    ana.goto("/portal/applications/1")
    expect(ana.get_by_role("heading", name="Keys and secrets")).to_be_visible()
    expect(ana.get_by_role("link", name="Invoices")).to_have_count(0)
    ana.goto("/portal/invoices")
    expect(ana.get_by_role("alert")).to_contain_text("This is for billing or owner of Gannet Ferries")

    leonor.get_by_role("row").filter(has_text="Ana Livro").get_by_role("button", name="remove").click()
    expect(leonor.get_by_role("dialog")).to_contain_text("keys that they know serve on until you revoke them")
    leonor.get_by_role("button", name="Remove Ana Livro").click()
    expect(leonor.get_by_role("dialog")).to_have_count(0)  # while it is there, nothing behind it has a role
    expect(leonor.get_by_role("row").filter(has_text="Ana Livro")).to_have_count(0)
    ana.goto("/portal/applications")
    expect(ana.get_by_role("heading", name="Sign in")).to_be_visible()
    sign_in(ana, "ana@gannet.example")
    expect(ana.get_by_role("alert")).to_contain_text("not right")


def test_a_second_factor_is_turned_on_asked_for_recovered_from_and_turned_off(
    people: People, product: Processes
) -> None:
    page = newcomer(people, product, "Tito", "Buoyage")
    page.get_by_role("link", name="Tito", exact=True).click()
    factor = page.get_by_role("region", name="A second factor")
    factor.get_by_label("Your password, to begin").fill("not the password")
    factor.get_by_role("button", name="Begin").click()
    expect(factor.get_by_role("alert")).to_contain_text("is not your present password", ignore_case=True)
    factor.get_by_label("Your password, to begin").fill(PASSWORD)
    factor.get_by_role("button", name="Begin").click()
    expect(factor.get_by_role("img", name="The secret, as a QR code")).to_be_visible()
    assert serious(page) == []
    secret = factor.get_by_test_id("totp-secret").inner_text()
    factor.get_by_label("The code it shows now").fill("000000")
    factor.get_by_role("button", name="Turn it on").click()
    expect(factor.get_by_role("alert")).to_contain_text("not a code of this secret")
    factor.get_by_label("The code it shows now").fill(pyotp.TOTP(secret).now())
    factor.get_by_role("button", name="Turn it on").click()
    shown = page.get_by_test_id("recovery-codes").get_by_role("listitem")
    expect(shown).to_have_count(10)
    codes = shown.all_inner_texts()
    page.get_by_role("button", name="I have kept them").click()
    expect(factor).to_contain_text("10 recovery codes are left")

    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("link", name="Sign in")).to_be_visible()
    sign_in(page, "tito@buoyage.example")
    code = page.get_by_label("Code")
    expect(code).to_be_focused()
    code.fill("123456")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("code is not right")
    code.fill(codes[0])
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    page.goto("/portal/you")
    expect(factor).to_contain_text("9 recovery codes are left")
    factor.get_by_role("button", name="turn it off").click()
    page.get_by_role("dialog").get_by_label("Password").fill(PASSWORD)
    page.get_by_role("dialog").get_by_label("Code").fill(codes[0])
    page.get_by_role("button", name="Turn it off").click()
    expect(page.get_by_role("dialog").get_by_role("alert")).to_contain_text("was used")
    page.get_by_role("dialog").get_by_label("Code").fill(codes[1])
    page.get_by_role("button", name="Turn it off").click()
    expect(factor.get_by_role("button", name="Begin")).to_be_visible()


def test_an_address_changes_by_letter_and_then_the_account_is_closed(people: People, product: Processes) -> None:
    page = newcomer(people, product, "Olga", "Wharfage")
    page.goto("/portal/you")
    address = page.get_by_role("region", name="Your mail address")
    expect(address).to_contain_text("Letters go to olga@wharfage.example.")
    address.get_by_label("Another address").fill("olga.new@wharfage.example")
    address.get_by_label("Your password").fill(PASSWORD)
    address.get_by_role("button", name="Send a letter there").click()
    expect(address.get_by_role("status")).to_contain_text("A letter to olga.new@wharfage.example is on its way")
    page.goto(letter_link(product, "olga.new@wharfage.example"))
    assert serious(page) == []
    page.get_by_role("button", name="Make it my address").click()
    expect(page.get_by_role("status")).to_contain_text("Letters go to olga.new@wharfage.example from now on")

    page.get_by_role("link", name="Wharfage").click()
    page.get_by_role("link", name="What closing the account would bring with it").click()
    expect(page.get_by_role("heading", name="Close the account of Wharfage")).to_be_visible()
    expect(page.get_by_text("An account that is closed is not opened again")).to_be_visible()
    page.get_by_label("The organisation's name").fill("Wharf")
    page.get_by_label("Your password").fill(PASSWORD)
    page.get_by_role("button", name="Close the account for good").click()
    expect(page.get_by_role("alert")).to_contain_text("type the name as it is: Wharfage", ignore_case=True)
    page.get_by_label("The organisation's name").fill("Wharfage")
    page.get_by_role("button", name="Close the account for good").click()
    expect(page.get_by_role("status")).to_contain_text("The account of Wharfage is closed.")
    page.goto("/portal/applications")
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    expect(page.get_by_role("button", name="Register an application")).to_have_count(0)
    page.goto("/portal/invoices")
    expect(page.get_by_text("None yet.")).to_be_visible()
