"""A product's page: what it gives, what it costs at one's own use, and which plan to begin with."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.conftest import People

PRODUCT = "/portal/products/harbour-data"


def test_a_stranger_sees_an_answer_and_what_their_own_use_costs_and_a_link_keeps_it(people: People) -> None:
    page = people.page()
    page.goto(PRODUCT)
    answer = page.get_by_role("region", name="Example answer: Predicted heights")
    expect(answer).to_contain_text('"height_m": 1.274')
    box = page.get_by_role("status").bounding_box()
    assert box and box["y"] + box["height"] < 800  # what it costs is said within one screen
    expect(page.get_by_text("Tides v2 takes its place.")).to_be_visible()
    forecasts = page.get_by_label("Forecast calls a month", exact=True)
    forecasts.fill("40000")
    page.get_by_label("Berth lookups a month", exact=True).fill("300")
    page.get_by_label("calls in one second").fill("30")
    said = page.get_by_role("status")
    # Schooner: 150 with 40,000 and 5,000 included; Ketch: 40 + 3,000 at 0.004 + 35,000 at 0.003.
    expect(said).to_contain_text("Schooner costs least: €150.00 a month, before tax")
    expect(said).to_contain_text("of 30 calls in one second")
    ketch = page.get_by_role("columnheader", name="Ketch")
    expect(ketch).to_contain_text("€157.00")
    expect(ketch).to_contain_text("of 30 calls in one second 10 may be refused: 10 calls a second, up to 20 at once")
    skiff = page.get_by_role("columnheader", name="Skiff")
    expect(skiff).to_contain_text("does not reach")
    expect(skiff).to_contain_text("1,000 of your 40,000 forecast calls a month")

    other = people.page()
    other.goto(page.url)
    expect(other.get_by_role("status")).to_contain_text("Schooner costs least: €150.00")
    expect(other.get_by_label("Berth lookups a month", exact=True)).to_have_value("300")

    forecasts.fill("10000")
    expect(said).to_contain_text("Ketch costs least: €67.00")
    expect(said).to_contain_text(re.compile(r"From 37,667 forecast calls on, Schooner does\."))
    page.get_by_role("button", name="berth lookups", exact=True).click()
    expect(page.get_by_role("heading", name="A month, by berth lookups")).to_be_visible()
    page.get_by_role("button", name="as figures").click()
    expect(page.get_by_role("columnheader", name="berth lookups")).to_be_visible()


def test_terms_stand_side_by_side_and_those_that_differ_alone(people: People) -> None:
    page = people.page()
    page.goto("/portal/products/chart-tiles")
    fair, discount = (page.get_by_role("rowheader", name=name) for name in ("Window", "Discount"))
    expect(fair).to_be_visible()
    expect(discount).to_be_visible()
    page.get_by_role("button", name="only where they differ").click()
    expect(fair).to_have_count(0)
    expect(discount).to_be_visible()
    page.get_by_role("button", name="all terms").click()
    expect(fair).to_be_visible()
    page.goto("/portal/products/sea-watch")
    expect(page.get_by_text("costs least:")).to_be_visible()  # what is above has its height, and moves nothing below
    page.get_by_role("button", name="Terms of use").click()
    expect(page.get_by_text("They are not for navigation.")).to_be_visible()
    page.get_by_role("button", name="Operations").click()
    expect(page.get_by_role("button", name="GET /sea/v1/buoys/{buoy}/latest")).to_be_visible()


def test_who_is_on_a_product_begins_with_their_own_last_month(people: People) -> None:
    page = people.member("Leonor")
    page.goto(PRODUCT)
    expect(page.get_by_text("This is your use of")).to_be_visible()
    page.get_by_label("Forecast calls a month", exact=True).fill("500")
    expect(page.get_by_text("This is your use of")).to_have_count(0)
    expect(page.get_by_role("columnheader", name="Skiff")).to_contain_text(re.compile("€0.00|does not reach"))
    page.get_by_role("button", name="Choose Ketch").click()
    expect(page.get_by_role("dialog").get_by_label("For the application")).to_be_visible()
