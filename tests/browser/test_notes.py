"""What was new in an API, from who writes it to who reads it; and how the API has answered."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious


def api_page(people: People, name: str) -> Page:
    ines = people.staff("Ines")
    ines.goto("/compose/apis")
    ines.get_by_role("link", name=name).first.click()
    expect(ines.get_by_role("heading", level=1, name=name)).to_be_visible()
    return ines


def write(ines: Page, days: int, words: str) -> None:
    ines.get_by_role("button", name="Write one").click()
    ines.get_by_label("Read by consumers from this day on").fill(str((datetime.now(UTC) + timedelta(days=days)).date()))
    ines.get_by_role("textbox", name="What is new").fill(words)
    ines.get_by_role("button", name="Save").click()
    expect(ines.get_by_role("dialog")).to_have_count(0)


def test_what_is_new_is_written_and_read_from_its_day_on(people: People) -> None:
    ines = api_page(people, "Chart Tiles v1")
    expect(ines.get_by_text("Nothing was said to be new yet.")).to_be_visible()
    write(ines, -2, "Tiles of **twice** the size.")
    write(ines, 3, "Tiles by night.")
    reader = people.page()
    reader.goto("/portal/products/chart-tiles?view=notes")
    expect(reader.get_by_role("listitem")).to_have_text([re.compile("Chart Tiles v1Tiles of twice the size.")])
    assert serious(reader) == []

    ines.get_by_role("listitem").filter(has_text="Tiles of twice the size.").get_by_role("button").click()
    ines.get_by_role("textbox", name="What is new").fill("Tiles of *four times* the size. <b>Bold</b>")
    ines.get_by_role("button", name="how it reads").click()
    expect(ines.get_by_role("dialog").get_by_text("<b>Bold</b>", exact=False).last).to_be_visible()
    ines.get_by_role("button", name="Save").click()
    expect(ines.get_by_text("Tiles of four times the size.")).to_be_visible()
    reader.reload()
    expect(reader.get_by_role("listitem")).to_have_text([re.compile("Tiles of four times the size. <b>Bold</b>")])

    for words in ("Tiles of four times the size.", "Tiles by night."):
        ines.get_by_role("listitem").filter(has_text=words).get_by_role("button").click()
        ines.get_by_role("button", name="Take it away").click()
        expect(ines.get_by_text(words)).to_have_count(0)
    reader.reload()
    expect(reader.get_by_text("Nothing new has been said of it yet.")).to_be_visible()


def test_how_an_api_has_answered_is_told_by_day(people: People) -> None:
    page = people.page()
    page.goto("/portal/products/harbour-data?view=answering")
    tides = page.get_by_role("region", name="Tides v2")
    expect(tides).to_contain_text(
        re.compile(
            r"it answered 9\d\.\d\d% of its calls: half of them within [\d.]+\sms, 95 of 100 within [\d.]+\sms\."
        )
    )
    assert serious(page) == []
    tides.get_by_role("button", name="as figures").click()
    rows = tides.get_by_role("row")
    expect(rows.first).to_contain_text("95 of 100 within")
    assert rows.count() > 7
    page.set_viewport_size({"width": 375, "height": 800})
    assert page.evaluate("document.documentElement.scrollWidth") <= 375
