"""Running the house in the browser: who works here, as what, and how they sign in; and the record of it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta

import httpx
import pyotp
from playwright.sync_api import Locator, Page, expect

from calm_tariff.demo.scenario import PASSWORD
from calm_tariff.standins import issuer
from tests.browser.conftest import People
from tests.browser.test_house import letter_link
from tests.browser.test_views import serious

NADIA = "nadia@larkmouth.example"
NEW = "a storm in spring"


def later(secret: str) -> str:
    """The code after the one of now, which is taken as well: one that was used is not taken again."""
    return pyotp.TOTP(secret).at(datetime.now(UTC) + timedelta(seconds=30))


def turn_on(page: Page, password: str) -> str:
    """Turn a second factor on where its section is shown; the secret."""
    page.get_by_label("Your password, to begin").fill(password)
    page.get_by_role("button", name="Begin").click()
    secret = page.get_by_test_id("totp-secret").inner_text()
    page.get_by_label("The code it shows now").fill(pyotp.TOTP(secret).now())
    page.get_by_role("button", name="Turn it on").click()
    page.get_by_role("button", name="I have kept them").click()
    expect(page.get_by_text("A code is asked for when you sign in")).to_be_visible()
    return secret


def change(page: Page, name: str) -> Locator:
    page.goto("/house/people")
    page.get_by_role("button", name=f"change {name}…").click()
    return page.get_by_role("dialog", name=name)


@contextmanager
def gone_afterwards(owner: Page, name: str) -> Iterator[None]:
    """Whoever came in is deactivated at the end, whatever happened."""
    try:
        yield
    finally:
        everybody = owner.request.get("/api/v1/house/people").json()
        for person in everybody:
            if person["name"] == name and person["state"] == "active":
                assert owner.request.put(f"/api/v1/house/people/{person['id']}/deactivation").ok


def test_a_colleague_is_invited_comes_in_signs_in_with_a_code_and_is_deactivated(people: People) -> None:
    ines = people.staff("Ines")
    ines.get_by_role("button", name="Ines, product manager").click()
    ines.get_by_role("menuitem", name="People").click()
    invite = ines.get_by_role("region", name="Invite a colleague")
    invite.get_by_label("Their mail address").fill(NADIA)
    invite.get_by_role("button", name="Send an invitation").click()
    expect(invite.get_by_role("alert")).to_contain_text(re.compile("at least one", re.IGNORECASE))
    invite.get_by_label("reviewer").check()
    invite.get_by_label("finance").check()
    invite.get_by_role("button", name="Send an invitation").click()
    expect(invite.get_by_role("status")).to_contain_text(f"A letter to {NADIA} is on its way")
    waiting = ines.get_by_role("region", name="Invited")
    expect(waiting).to_contain_text("reviewer and finance")
    assert serious(ines) == []

    with gone_afterwards(ines, "Nadia Sul"):
        nadia = people.page()
        nadia.goto(letter_link(people.product, NADIA))
        expect(nadia.get_by_text("Ines invites you to work here as reviewer and finance.")).to_be_visible()
        assert serious(nadia) == []
        nadia.get_by_label("Your name").fill("Nadia Sul")
        nadia.get_by_label("Password").fill(NEW)
        nadia.get_by_role("button", name="Accept the invitation").click()
        menu = nadia.get_by_role("button", name="Nadia Sul, reviewer and finance")
        expect(menu).to_be_visible()
        nadia.goto("/house/you")
        secret = turn_on(nadia, NEW)
        menu.click()
        nadia.get_by_role("menuitem", name="Sign out").click()
        nadia.get_by_label("E-mail address").fill(NADIA)
        nadia.get_by_label("Password").fill(NEW)
        nadia.get_by_role("button", name="Sign in", exact=True).click()
        nadia.get_by_label("Code").fill("000000")
        nadia.get_by_role("button", name="Sign in", exact=True).click()
        expect(nadia.get_by_role("alert")).to_contain_text("not right")
        nadia.get_by_label("Code").fill(later(secret))
        nadia.get_by_role("button", name="Sign in", exact=True).click()
        expect(menu).to_be_visible()

        ines.goto("/house/people")
        expect(ines.get_by_role("row").filter(has_text=NADIA)).to_contain_text("a password, a code")
        dialog = change(ines, "Nadia Sul")
        expect(dialog.get_by_role("region", name="Sessions")).to_contain_text(re.compile("Chrome.* on Linux"))
        assert serious(ines) == []
        dialog.get_by_label("finance").uncheck()
        dialog.get_by_role("button", name="Keep these roles").click()
        expect(dialog.get_by_role("status")).to_contain_text("Kept: reviewer.")
        nadia.reload()
        expect(nadia.get_by_role("button", name=re.compile("^Nadia Sul, reviewer$"))).to_be_visible()
        nadia.goto("/house/people")  # who owns nothing sees who is here, and no more
        expect(nadia.get_by_role("row").filter(has_text="Nadia Sul (you)")).to_contain_text("reviewer")
        expect(nadia.get_by_role("button", name=re.compile("^change "))).to_have_count(0)
        dialog.get_by_role("button", name="Deactivate Nadia Sul").click()
        expect(dialog).to_contain_text("cannot sign in since")
        nadia.goto("/")
        expect(nadia.get_by_role("button", name="Sign in", exact=True)).to_be_visible()


def test_the_last_owner_stays_one(people: People) -> None:
    ines = people.staff("Ines")
    dialog = change(ines, "Ines")
    dialog.get_by_label("owner").uncheck()
    dialog.get_by_role("button", name="Keep these roles").click()
    expect(dialog.get_by_role("alert")).to_contain_text("The house: somebody must own it")
    dialog.get_by_role("button", name="Deactivate Ines").click()
    expect(dialog.get_by_role("region", name="Deactivate")).to_contain_text("The house: somebody must own it")


def test_where_everybody_must_have_a_second_factor_one_is_set_up_before_anything_else(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/house/people")
    ask = ines.get_by_role("button", name="ask it of everybody")
    ask.click()
    expect(ines.get_by_role("alert")).to_contain_text("you have none yourself")
    ines.goto("/house/you")
    own = turn_on(ines, PASSWORD)
    secrets = {ines: own}
    try:
        ines.goto("/house/people")
        ask.click()
        expect(ines.get_by_text("Everybody shows a code besides the password.")).to_be_visible()
        tomas = people.page()
        tomas.goto("/")
        tomas.get_by_role("button", name="Tomas").click()
        expect(tomas.get_by_text("Everybody who works here shows a second factor")).to_be_visible()
        assert serious(tomas) == []
        assert tomas.request.get("/api/v1/consumers").status == 403
        expect(tomas.get_by_label("Your password, to begin")).to_be_visible()
        expect(tomas.get_by_role("button", name="Go on")).to_have_count(0)  # not before it is on
        secrets[tomas] = turn_on(tomas, PASSWORD)
        tomas.get_by_role("button", name="Go on").click()
        expect(tomas.get_by_role("heading", name="Today")).to_be_visible()
        ines.reload()
        ines.get_by_role("button", name="leave it to each").click()
        expect(ask).to_be_visible()
    finally:
        assert ines.request.put("/api/v1/house/second-factor", data={"required": False}).ok
        for page, secret in secrets.items():
            body = {"password": PASSWORD, "code": later(secret)}
            assert page.request.post("/api/v1/second-factor/end", data=body).ok


def test_people_come_through_another_system_with_the_roles_that_it_says(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/house/people")
    ines.get_by_role("button", name="name a provider…").click()
    dialog = ines.get_by_role("dialog", name="Who tells us who somebody is")
    expect(dialog).to_contain_text("/signed-in")
    dialog.get_by_label("What people call it").fill("Coast identity")
    dialog.get_by_label("Its issuer’s address").fill(f"{people.product.standins}/issuer")
    dialog.get_by_label("Our client id there").fill(issuer.CLIENT)
    dialog.get_by_label("Our secret there").fill(issuer.CLIENT_SECRET)
    dialog.get_by_label("The claim that gives roles").fill("teams")
    dialog.get_by_role("button", name="Keep it").click()
    expect(dialog.get_by_role("alert")).to_contain_text("which roles they give")
    dialog.get_by_role("button", name="a value that gives roles").click()
    values = dialog.get_by_role("region", name="Values and their roles")
    values.get_by_label("Value").fill("ledger")
    values.get_by_label("finance").check()
    assert serious(ines) == []
    dialog.get_by_role("button", name="Keep it").click()
    expect(dialog).to_have_count(0)
    expect(ines.get_by_text("People may sign in through Coast identity")).to_be_visible()
    with gone_afterwards(ines, "Vera Doca"):
        page = people.page()
        for somebody in ("Bento Farol", "Vera Doca"):
            page.goto("/")
            page.get_by_role("button", name="Sign in through Coast identity").click()
            page.get_by_role("link", name=re.compile(somebody)).click()
            if somebody == "Bento Farol":
                expect(page.get_by_role("alert")).to_contain_text("Coast identity gives you no role here")
                assert serious(page) == []
                page.get_by_role("link", name="Begin again").click()
        expect(page.get_by_role("button", name="Vera Doca, finance")).to_be_visible()
        ines.get_by_role("button", name="no longer", exact=True).click()
        expect(ines.get_by_text("Nobody signs in through another system.")).to_be_visible()
        page.get_by_role("button", name="Vera Doca, finance").click()
        page.get_by_role("menuitem", name="Sign out").click()
        expect(page.get_by_role("button", name="Sign in", exact=True)).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("Sign in through"))).to_have_count(0)


def test_a_token_is_narrowed_to_scopes_and_told_what_it_lacks(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/house/tokens")
    ines.get_by_role("button", name="Make a token").click()
    dialog = ines.get_by_role("dialog")
    dialog.get_by_label("What it is for").fill("month end")
    dialog.get_by_label("owner").uncheck()
    dialog.get_by_label("read settle").check()
    assert serious(ines) == []
    dialog.get_by_role("button", name="Make it").click()
    secret = ines.get_by_test_id("secret").inner_text()
    ines.get_by_role("button", name="I have kept it").click()
    row = ines.get_by_role("row").filter(has_text="month end")
    expect(row).to_contain_text("as product manager, for you")
    expect(row).to_contain_text("only to read settle")
    asked = {"headers": {"Authorization": f"Bearer {secret}"}}
    assert httpx.get(f"{people.product.web}/api/v1/periods", **asked).status_code == 200
    refused = httpx.get(f"{people.product.web}/api/v1/consumers", **asked)
    assert refused.status_code == 403 and "needs the scope “read observe”" in refused.text
    row.get_by_role("button", name="revoke…").click()
    ines.get_by_role("button", name="Revoke it at once").click()
    expect(row).to_contain_text("revoked")


def test_the_record_is_narrowed_read_as_a_difference_and_shown_to_be_whole(people: People) -> None:
    ines = people.staff("Ines")
    ines.get_by_role("link", name="The record").click()
    ines.get_by_label("What was done").select_option("changed a product")
    rows = ines.get_by_role("row").filter(has_text="changed a product")
    expect(rows.first).to_be_visible()
    expect(ines.get_by_role("row").filter(has_text="signed in")).to_have_count(0)
    rows.first.get_by_role("button", name="what changed").click()
    margin = ines.get_by_role("complementary", name="Margin")
    expect(margin).to_contain_text("Changed a product")
    expect(margin.get_by_role("row").nth(1)).to_be_visible()
    rows.first.get_by_role("button").first.click()  # the product alone
    expect(ines).to_have_url(re.compile(r"thing=product.*id=\d+|id=\d+.*thing=product"))
    ines.get_by_label("from", exact=True).fill("2030-01-01")
    expect(ines.get_by_text("No entry is like that.")).to_be_visible()
    ines.goto("/record")
    margin.get_by_role("button", name="Look through it").click()
    status = margin.get_by_role("status")
    expect(status).to_contain_text("It is whole:")
    kept = status.get_by_role("code").inner_text()
    margin.get_by_label("A digest that you kept").fill(kept)
    margin.get_by_role("button", name="Look through it").click()
    expect(status).to_contain_text("It is whole:")
    margin.get_by_label("A digest that you kept").fill(f"{kept[:-8]}00000000")
    margin.get_by_role("button", name="Look through it").click()
    expect(status).to_contain_text("is another one than that whose digest was kept")
    assert serious(ines) == []
