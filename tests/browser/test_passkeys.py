"""A passkey is made on one's own page and signs in by itself from then on. A virtual authenticator plays the telephone;
pages are asked at a name, for passkeys are for names alone."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import Processes

TELEPHONE = {"protocol": "ctap2", "transport": "internal", "hasResidentKey": True, "hasUserVerification": True}
PASSWORD = "larkmouth-demo"


def telephone(page: Page) -> None:
    """Give a page a telephone that its owner unlocks."""
    devices = page.context.new_cdp_session(page)
    devices.send("WebAuthn.enable")
    options = {**TELEPHONE, "isUserVerified": True, "automaticPresenceSimulation": True}
    devices.send("WebAuthn.addVirtualAuthenticator", {"options": options})


@pytest.mark.parametrize(
    ("start", "you", "email", "inside"),
    [
        pytest.param("/", "/house/you", "tomas@larkmouth.example", "Today", id="console"),
        pytest.param("/portal/sign-in", "/portal/you", "jaime@cormorant.example", "My applications", id="portal"),
    ],
)
def test_a_passkey_signs_in_by_itself_until_it_is_removed(
    people: People, product: Processes, start: str, you: str, email: str, inside: str
) -> None:
    page, at = people.page(), product.web.replace("127.0.0.1", "localhost")
    telephone(page)
    page.goto(at + start)
    by_passkey = page.get_by_role("button", name="Sign in by a passkey")
    by_passkey.click()
    expect(page.get_by_role("alert")).to_have_text("Nothing was unlocked, or not in time.")
    page.get_by_label("E-mail address").fill(email)
    page.get_by_label("Password").fill(PASSWORD)
    page.get_by_role("button", name="Sign in", exact=True).click()
    page.get_by_role("heading", name=inside).wait_for()

    page.goto(at + you)
    own = page.get_by_role("region", name="Passkeys")
    own.get_by_label("What you call it").fill("my telephone")
    own.get_by_label("Your password, to begin").fill("wrong")
    own.get_by_role("button", name="Make a passkey").click()
    expect(own.get_by_label("Your password, to begin")).to_have_accessible_description("Is not your present password.")
    own.get_by_label("Your password, to begin").fill(PASSWORD)
    own.get_by_role("button", name="Make a passkey").click()
    row = own.get_by_role("row").filter(has_text="my telephone")
    expect(row).to_contain_text("localhost")
    expect(row).to_contain_text("not yet")
    assert serious(page) == []

    page.context.clear_cookies()
    page.goto(at + start)
    by_passkey.click()
    page.get_by_role("heading", name=inside).wait_for()
    page.goto(at + you)
    expect(row).to_be_visible()
    expect(row).not_to_contain_text("not yet")
    row.get_by_role("button", name="remove").click()
    dialog = page.get_by_role("dialog", name="Remove my telephone")
    dialog.get_by_label("Password").fill(PASSWORD)
    dialog.get_by_role("button", name="Remove it").click()
    expect(dialog).to_have_count(0)
    expect(row).to_have_count(0)

    page.context.clear_cookies()
    page.goto(at + start)
    by_passkey.click()
    expect(page.get_by_role("alert")).to_have_text("This passkey opens no account here.")


def test_at_a_number_a_page_says_why_it_has_none(people: People) -> None:
    page = people.member("Marta")
    page.goto("/portal/you")
    own = page.get_by_role("region", name="Passkeys")
    expect(own).to_contain_text("Passkeys are for pages at a name, and these are at 127.0.0.1.")
    expect(own.get_by_role("button")).to_have_count(0)
