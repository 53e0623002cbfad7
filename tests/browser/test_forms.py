"""What is refused of a form stands beside the field it is about, and what was typed stays."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, expect

from tests.browser.conftest import People


def refused(field: Locator, why: str | re.Pattern[str]) -> None:
    """A field that says why it was refused, to eyes and to screen readers."""
    expect(field).to_have_attribute("aria-invalid", "true")
    expect(field).to_have_accessible_description(why)


def test_a_refused_field_says_so_itself_and_no_more_once_it_is_typed_anew(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/products")
    page.get_by_role("button", name="Make a new product").click()
    name = page.get_by_label("Name", exact=True)
    name.fill("Chart\u200bTiles")
    page.get_by_label("Whom to ask").fill("the desk")
    page.get_by_label("Every operation of Tiles").check()
    page.get_by_role("button", name="Make it").click()
    refused(name, re.compile("character"))
    expect(name).to_be_focused()
    expect(page.get_by_role("alert")).to_have_count(1)
    expect(page.get_by_label("Whom to ask")).to_have_value("the desk")
    page.keyboard.press("End")
    page.keyboard.type("s")
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(name).not_to_have_attribute("aria-invalid", "true")


def test_what_is_refused_of_one_row_stands_in_that_row(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/apis/new")
    page.get_by_label("Name", exact=True).fill("Soundings")
    page.get_by_label("Answers under").fill("/soundings/v1")
    page.get_by_label("Back-end address", exact=True).fill("http://127.0.0.1:9/soundings")
    page.get_by_role("button", name="Add an operation").click()
    page.get_by_role("button", name="Add an operation").click()
    page.get_by_label("Path of operation 1").fill("/depths")
    page.get_by_label("Path of operation 2").fill("no slash")
    page.get_by_label("Path of operation 3").fill("/wrecks")
    page.get_by_role("button", name="Describe it").click()
    refused(page.get_by_label("Path of operation 2"), re.compile("^Must begin with a slash"))
    page.get_by_role("button", name="Take away operation 1").click()
    expect(page.get_by_label("Path of operation 1")).to_have_value("no slash")
    expect(page.get_by_label("Path of operation 2")).to_have_value("/wrecks")
    page.get_by_label("Path of operation 1").fill("/depths")
    page.get_by_role("button", name="Describe it").click()
    expect(page.get_by_role("heading", name="Soundings v1")).to_be_visible()
    expect(page.get_by_role("row")).to_have_count(3)


def test_what_is_about_no_field_stands_at_the_end(people: People) -> None:
    page = people.page()
    page.goto("/portal/confirm#a-letter-long-used")
    page.get_by_label("Your name").fill("Aurel")
    page.get_by_label("Your organisation").fill("Lantern Tours")
    page.get_by_label("New password").fill("a long password")
    page.get_by_role("button", name="Make the account").click()
    expect(page.get_by_role("alert")).to_have_count(1)
    expect(page.locator("[aria-invalid=true]")).to_have_count(0)
    expect(page.get_by_label("Your name")).to_have_value("Aurel")
    expect(page.get_by_role("link", name="Ask for another letter")).to_be_visible()
