"""One's own password and one's scripts' tokens, in the browser."""

from __future__ import annotations

import re

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import Processes, wait_for


def test_a_token_is_made_used_seen_to_be_used_and_revoked(people: People, product: Processes) -> None:
    page = people.staff("Beatriz")
    page.get_by_role("button", name="Beatriz, finance").click()
    page.get_by_role("menuitem", name="Service tokens").click()
    expect(page.get_by_text("There is none yet.")).to_be_visible()
    page.get_by_role("button", name="Make a token").click()
    page.get_by_label("What it is for").fill("the ledger\u200b")
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_label("What it is for")).to_have_accessible_description(re.compile("ZERO WIDTH SPACE"))
    page.get_by_label("What it is for").fill("the ledger")
    page.get_by_label("Good for how many days").fill("30")
    page.get_by_role("button", name="Make it").click()
    secret = page.get_by_test_id("secret").inner_text()
    page.get_by_role("button", name="I have kept it").click()
    row = page.get_by_role("row").filter(has_text="the ledger")
    expect(row).to_contain_text("as finance, for you")
    expect(row).to_contain_text("never")
    asked = {"headers": {"Authorization": f"Bearer {secret}"}}
    assert httpx.get(f"{product.web}/api/v1/today", **asked).status_code == 200
    page.reload()
    expect(row).to_contain_text("from 127.0.0.1")
    assert secret not in page.content()
    row.get_by_role("button", name="revoke…").click()
    page.get_by_role("button", name="Revoke it at once").click()
    expect(row).to_contain_text("revoked")
    assert httpx.get(f"{product.web}/api/v1/today", **asked).status_code == 401


def test_who_signs_out_where_everybody_may_be_is_out_at_once(people: People) -> None:
    page = people.staff("Rui")
    page.get_by_role("button", name="Rui").click()
    page.get_by_role("menuitem", name="Sign out").click()
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()
    page.go_back()
    expect(page.get_by_role("heading", name="Today")).to_have_count(0)

    page = people.member("Leonor")
    page.goto("/portal/")
    page.get_by_role("button", name="Sign out").click()
    expect(page.get_by_role("link", name="Sign in")).to_be_visible()
    page.goto("/portal/applications")
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()


@pytest.mark.parametrize(
    ("start", "email", "inside"),
    [("/", "rui@larkmouth.example", "Today"), ("/portal/sign-in", "{member}", "My applications")],
)
def test_a_forgotten_password_is_set_by_letter_and_then_changed(
    people: People, product: Processes, start: str, email: str, inside: str
) -> None:
    page = people.page()
    offered = httpx.get(f"{product.web}{'/portal' if 'portal' in start else ''}/api/v1/me").json()["demo"]
    email = offered[-1]["email"] if "member" in email else next(p["email"] for p in offered if p["name"] == "Rui")
    page.goto(start)
    page.get_by_role("link", name="Password forgotten").click()
    page.get_by_label("E-mail address of your account").fill(email)
    page.get_by_role("button", name="Send me a letter").click()
    expect(page.get_by_role("status")).to_contain_text(f"If {email} has an account here")
    page.goto(letter_link(product, email))
    page.get_by_label("New password").fill("short")
    page.get_by_role("button", name="Set it").click()
    expect(page.get_by_role("alert")).to_contain_text("at least 10 characters")
    page.get_by_label("New password").fill("a storm in spring")
    page.get_by_role("button", name="Set it").click()
    expect(page.get_by_role("heading", level=1, name=inside)).to_be_visible()
    changed(page, start, "a storm in spring", "a calm in autumn")
    other = people.page()
    other.goto(start)
    other.get_by_label("E-mail address").fill(email)
    other.get_by_label("Password").fill("a calm in autumn")
    other.get_by_role("button", name="Sign in").click()
    expect(other.get_by_role("heading", level=1, name=inside)).to_be_visible()
    changed(other, start, "a calm in autumn", "at the harbour")
    page.goto(start)
    expect(page.get_by_role("button", name="Sign in")).to_be_visible()


def changed(page: Page, start: str, current: str, new: str) -> None:
    page.goto("/portal/you" if "portal" in start else "/house/you")
    page.get_by_label("Present password").fill(current)
    page.get_by_label("New password").fill(new)
    page.get_by_role("button", name="Change it").click()
    expect(page.get_by_role("status")).to_contain_text("signed out everywhere else")


def letter_link(product: Processes, to: str) -> str:
    """The link of the newest letter to an address that has one."""

    def found() -> str | None:
        letters = httpx.get(f"{product.standins}/mailbox.json?to={to}").json()
        links = [re.search(r"http\S+#\S+", letter["body"]) for letter in letters]
        return next((link[0] for link in links if link), None)

    return wait_for(found)


def test_one_sees_where_one_is_signed_in_and_ends_it_there(people: People) -> None:
    here, there, third = (people.member("Leonor") for _ in range(3))
    here.goto("/portal/you")
    listed = here.get_by_role("region", name="Where you are signed in")
    mine = listed.get_by_role("row").filter(has_text="this one")
    expect(mine).to_contain_text(re.compile(r"Chrome.* on Linux"))
    expect(mine).to_contain_text("127.0.0.1")
    ends = listed.get_by_role("button", name="end it")
    before = ends.count()
    assert before >= 2 and serious(here) == []
    ends.first.click()
    expect(ends).to_have_count(before - 1)
    listed.get_by_role("button", name="end all but this one").click()
    expect(ends).to_have_count(0)
    for ended in (there, third):
        ended.goto("/portal/applications")
        expect(ended.get_by_role("heading", name="Sign in")).to_be_visible()
    here.goto("/portal/applications")
    expect(here.get_by_role("heading", name="My applications")).to_be_visible()

    ines = people.staff("Ines")
    ines.goto("/house/you")
    expect(ines.get_by_role("row").filter(has_text="this one")).to_contain_text("127.0.0.1")
