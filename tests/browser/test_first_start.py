"""The first start: from an empty installation to its first served call, in the browser, led by the first page."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, expect

from calm_tariff.launch import start
from calm_tariff.launch.database import Database
from calm_tariff.settings import Settings
from calm_tariff.store.tables import metadata
from tests.browser.conftest import People
from tests.browser.test_house import letter_link
from tests.browser.test_story import cell_action
from tests.browser.test_views import serious
from tests.processes import Processes, wait_for

OWNER, DEVELOPER = "kei@isle.example", "ana@boats.example"
MINUTES = 10


@dataclass
class Fresh(Processes):
    """An installation that nobody has used yet, with the password that its first start prints."""

    password: str = ""


@pytest.fixture
def product(database: Database, tmp_path: Path) -> Iterator[Fresh]:
    """What `./calm start` makes of nothing, on other ports."""
    url = database.make_schema("calm_first_start")
    settings = Settings(provider_name="Isle Survey", owner=OWNER)
    ctx = start._ready(url, settings)
    password = start._first(ctx, settings, start.first_provider(settings))
    assert password
    fresh = Fresh(tmp_path, database.let_serve("calm_first_start", metadata.tables), password=password)
    for command in ("standins", "web", "gateway", "worker"):
        fresh.start(command)
    yield fresh
    fresh.stop()


def led(page: Page, to: str) -> None:
    """Go where the first page leads: the one step that is next."""
    page.goto("/")
    following = page.get_by_role("region", name="First steps").locator("[aria-current=step]")
    expect(following).to_have_count(1)
    following.get_by_role("link", name=to).click()


def test_a_new_owner_is_led_from_nothing_to_the_first_served_call(people: People, product: Fresh) -> None:
    began = time.monotonic()
    page = people.page()
    page.goto("/")
    page.get_by_label("E-mail address").fill(OWNER)
    page.get_by_label("Password").fill(product.password)
    page.get_by_role("button", name="Sign in", exact=True).click()
    steps = page.get_by_role("region", name="First steps")
    expect(steps.get_by_role("listitem")).to_have_count(6)
    assert serious(page) == []

    led(page, "Open the settings")
    expect(page.get_by_label("Name", exact=True)).to_have_value("Isle Survey")
    page.get_by_label("Currency").fill("XYZ")
    page.get_by_role("button", name="Keep these settings").click()
    expect(page.get_by_label("Currency")).to_have_attribute("aria-invalid", "true")
    page.get_by_label("Currency").fill("GBP")
    page.get_by_label("Postal address").fill("Pier 3\nIsle")
    page.get_by_label("Saturday").check()
    assert serious(page) == []
    page.get_by_role("button", name="Keep these settings").click()
    page.get_by_role("link", name="On to the next step").click()
    expect(steps.get_by_role("listitem").first).to_contain_text("done")

    led(page, "Describe it")
    page.get_by_label("Name").fill("Tides")
    page.get_by_label("Answers under").fill("/tides/v1")
    page.get_by_label("Back-end address", exact=True).fill(f"{product.standins}/tides")
    page.get_by_label("Path of operation 1").fill("/stations")
    page.get_by_role("button", name="Describe it").click()
    expect(page.get_by_role("heading", name="Tides v1")).to_be_visible()

    led(page, "Make a product")
    page.get_by_label("Name").fill("Tide Data")
    page.get_by_label("Terms of use").fill("Name the source.")
    page.get_by_role("group", name="Tides v1").get_by_label("GET /stations").check()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Tide Data")).to_be_visible()

    led(page, "Open the products")
    page.get_by_role("link", name="Tide Data").first.click()
    page.get_by_role("button", name="Add a plan").click()
    page.get_by_label("Name").fill("Dinghy")
    page.get_by_role("button", name="Add the plan").click()
    cell_action(page, "Rate", "Add a rate", 0)
    page.get_by_role("button", name="Publish…").click()
    page.get_by_role("button", name=re.compile("^Publish 1 revision")).click()
    expect(page.get_by_text("As published; a change starts a draft.")).to_be_visible()

    developer = people.page()
    page.goto("/")
    portal = page.get_by_role("region", name="First steps").get_by_role("link", name="Open the portal")
    developer.goto(portal.get_attribute("href") or "")
    developer.goto("/portal/sign-up")
    developer.get_by_label("E-mail address").fill(DEVELOPER)
    developer.get_by_role("button", name="Send me a letter").click()
    expect(developer.get_by_role("status")).to_contain_text("is on its way")
    developer.goto(letter_link(product, DEVELOPER))
    developer.get_by_label("Your name").fill("Ana")
    developer.get_by_label("Your organisation").fill("Boats")
    developer.get_by_label("New password").fill("a storm in spring")
    developer.get_by_role("button", name="Make the account").click()
    expect(developer.get_by_role("heading", name="Applications")).to_be_visible()
    developer.goto("/portal/products/tide-data")
    developer.get_by_role("button", name="Choose Dinghy").first.click()
    dialog = developer.get_by_role("dialog")
    dialog.get_by_label("Name of the application").fill("Boat times")
    dialog.get_by_label("What is it for?").fill("When to sail.")
    dialog.get_by_role("checkbox").check()
    dialog.get_by_role("button", name="Ask for access").click()
    expect(dialog.get_by_role("button", name="Ask for access")).to_have_count(0)

    page.goto("/admit/desk")
    page.get_by_role("link", name="Boats").click()
    page.get_by_role("button", name="Grant", exact=False).first.click()
    expect(page.get_by_role("region", name="Decided just now")).to_contain_text("Boats")

    developer.goto("/portal/applications")
    developer.get_by_role("link", name="Boat times").click()
    developer.get_by_label("Label of a new key").fill("boat")
    developer.get_by_role("button", name="Make a key").click()
    secret = developer.get_by_test_id("secret").inner_text()

    led(page, "Watch the traffic")
    address = f"{product.gateway}/tides/v1/stations"
    wait_for(lambda: httpx.get(address, headers={"X-API-Key": secret}).status_code == 200)
    assert time.monotonic() - began < MINUTES * 60
    expect(page.get_by_role("row").filter(has_text="/stations").first).to_be_visible()
    page.goto("/")
    expect(page.get_by_role("heading", name="For you")).to_be_visible()
    expect(steps).to_have_count(0)
