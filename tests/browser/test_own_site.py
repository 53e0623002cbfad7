"""The provider's own site plugged in: a stranger is handed over and comes back with an account; a plan is chosen there;
its documentation shows a reader's own keys."""

from __future__ import annotations

import re

import httpx
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import PATIENCE, Processes

PILOTS = "/portals/pilots"


def portal_page(ines: Page, name: str) -> None:
    ines.goto("/admit/portals")
    ines.get_by_role("link", name=name).first.click()


def tell(product: Processes, page: Page, secret: str = "") -> None:
    """Give the site what it works with: a service token of somebody who decides on requests."""
    made = page.request.post("/api/v1/service-tokens", data={"label": "own site", "days": 2})
    assert made.ok, made.text()
    told = {"installation": product.web, "token": made.json()["token"], "documentation_secret": secret}
    assert httpx.put(f"{product.standins}/own-site/settings", json=told, timeout=PATIENCE).status_code == 204


def test_a_stranger_is_handed_over_and_has_an_account_when_they_come_back(people: People, product: Processes) -> None:
    ines = people.staff("Ines")
    tell(product, ines)
    portal_page(ines, "The Pilot Room")
    ines.get_by_label("Accounts are made at a page of your own").fill(f"{product.standins}/own-site")
    ines.get_by_role("button", name="Save it").click()
    expect(ines.get_by_role("button", name="Save it")).to_be_disabled()
    assert serious(ines) == []

    page = people.page()
    page.goto(f"{PILOTS}/sign-up")
    assert serious(page) == []
    page.get_by_role("button", name=re.compile("^Go on at 127")).click()
    expect(page.get_by_text("You come from The Pilot Room.")).to_be_visible()
    used = page.url
    for label, typed in (("Organisation", "Bar Tugs"), ("Your name", "Rosa Barra"), ("E-mail", "rosa@bar.example")):
        page.get_by_label(label).fill(typed)
    page.get_by_role("button", name="Agree and go on").click()
    page.wait_for_url(f"**{PILOTS}/sign-in")
    assert httpx.get(used, timeout=PATIENCE).status_code == 403, "a statement is good once"
    forged = re.sub(r"statement=[^.]*", "statement=eyJhbGciOiJub25lIn0", used)
    assert httpx.get(forged, timeout=PATIENCE).status_code == 403
    refused = page.request.post(f"{PILOTS}/api/v1/sign-up", data={"email": "rosa@tugs.example"})
    assert refused.status == 409 and "accounts are made at 127.0.0.1" in refused.text()
    ines.goto("/admit/consumers?words=Bar+Tugs")
    expect(ines.get_by_role("row").filter(has_text="Bar Tugs")).to_be_visible()

    portal_page(ines, "The Pilot Room")
    ines.get_by_label("Accounts are made at a page of your own").fill("")
    ines.get_by_role("button", name="Save it").click()
    expect(ines.get_by_role("button", name="Save it")).to_be_disabled()


def test_a_plan_is_chosen_at_the_site_and_documentation_shows_the_reader_s_keys(
    people: People, product: Processes
) -> None:
    ines = people.staff("Ines")
    portal_page(ines, "Larkmouth Tide Office")
    ines.get_by_role("button", name="make a secret for it").click()
    secret = ines.get_by_role("status").get_by_text(re.compile("^whsec_")).inner_text()
    tell(product, ines, secret)
    sheet = ines.request.get("/api/v1/products").json()["rows"]
    tiles = next(p["id"] for p in sheet if p["name"] == "Chart Tiles")
    route = ines.request.get(f"/api/v1/products/{tiles}").json()["route"]
    ines.goto("/compose/products")
    ines.get_by_role("link", name="Chart Tiles").first.click()
    ines.get_by_role("button", name="product and terms of use").click()
    dialog = ines.get_by_role("dialog", name="Chart Tiles")
    dialog.get_by_label("Plans are chosen at a page of your own").fill(f"{product.standins}/own-site")
    dialog.get_by_label("Rule 1: are").select_option("granted at once")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_have_count(0)

    page = people.member("Marta")
    page.goto("/portal/products/chart-tiles")
    page.get_by_role("button", name="Choose Schooner").first.click()
    page.get_by_role("button", name=re.compile("^Go on at 127")).click()
    expect(page.get_by_text(re.compile("Marta Vale of Driftline Apps chose Schooner"))).to_be_visible()
    page.get_by_role("button", name="Agree and go on").click()
    page.wait_for_url("**/portal/applications")
    expect(page.get_by_role("heading", name="For Schooner")).to_be_visible()

    reader = people.page()
    reader.goto(f"{product.standins}/own-site/documentation?portal=/portal&email=marta@driftline.example")
    expect(reader.get_by_text(re.compile(r"^X-API-Key: calmkey-live-\w{4}\.\.\. of "))).not_to_have_count(0)
    reader.goto(f"{product.standins}/own-site/documentation?portal=/portal&email=nobody@gannet.example")
    expect(reader.get_by_text("X-API-Key: YOUR-KEY")).to_be_visible()
    unsigned = page.request.post("/portal/api/v1/personal", data={"email": "marta@driftline.example"})
    assert unsigned.status == 401

    kept = ines.request.get(f"/api/v1/products/{tiles}").json()
    back = {**kept, "groups": kept["group_ids"], "route": route, "subscribing_site": ""}
    header = {"If-Match": f'"{kept["edition"]}"'}
    assert ines.request.put(f"/api/v1/products/{tiles}", data=back, headers=header).ok
