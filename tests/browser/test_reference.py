"""The reference: an operation is found by what is said of it, opened, and reached again by its address."""

from __future__ import annotations

import json
import re
import zipfile

import yaml
from playwright.sync_api import expect

from tests.browser.conftest import People
from tests.browser.test_views import serious

EXTREMES = "GET /tides/v2/stations/{id}/extremes"


def test_an_operation_is_found_by_a_field_of_its_answer_and_read_in_full(people: People) -> None:
    page = people.page()
    page.goto("/portal/")
    page.get_by_label("Find an operation").fill("submarine")
    expect(page.get_by_text("No operation speaks of that.")).to_be_visible()
    page.get_by_label("Find an operation").fill("high low height_m")
    found = page.get_by_role("search").get_by_role("listitem")
    expect(found).to_have_text([re.compile("Harbour Data"), re.compile("Sea Watch")])
    found.filter(has_text="Harbour Data").get_by_role("link", name=EXTREMES).click()
    operation = page.get_by_role("region", name=EXTREMES)
    expect(operation.get_by_text("How many days to look ahead.")).to_be_visible()
    expect(operation.get_by_text("at least 1; at most 30; 2 where nothing is said")).to_be_visible()
    expect(operation.get_by_text("one of high, low")).to_be_visible()
    beside = operation.get_by_label("What counts and limits it")
    expect(beside).to_contain_text("Forecast calls: 1,000 a month, then refuse, for each subscription")
    expect(beside).to_contain_text("an API key in the header")
    operation.get_by_text("an example").click()
    expect(operation.get_by_text('"kind": "low"')).to_be_visible()
    assert serious(page) == []

    there = people.page()
    there.goto(page.url)
    expect(there.get_by_text("How many days to look ahead.")).to_be_in_viewport()
    there.get_by_role("button", name=EXTREMES).click()
    expect(there.get_by_text("How many days to look ahead.")).to_have_count(0)
    assert "operation=" not in there.url


def test_the_list_is_narrowed_and_what_ends_is_marked(people: People) -> None:
    page = people.page()
    page.goto("/portal/products/harbour-data?view=operations")
    old = page.get_by_role("button", name="GET /tides/v1/stations/{id}/tides")
    expect(old).to_contain_text("deprecated")
    expect(page.get_by_role("button", name=EXTREMES)).not_to_contain_text("deprecated")
    page.get_by_label("With the words").fill("berth hold")
    expect(page.get_by_text("1 operation", exact=True)).to_be_visible()
    expect(old).to_have_count(0)
    page.get_by_role("button", name="POST /berths/v1").click()
    expect(page.get_by_text("It is taken.")).to_be_visible()
    page.get_by_label("With the words").fill("submarine")
    expect(page.get_by_text("No operation here has these words.")).to_be_visible()


def test_documents_and_calls_are_taken_along(people: People) -> None:
    page = people.page()
    page.goto("/portals/pilots/products/harbour-data?view=operations")
    take = page.get_by_role("region", name="To take along")

    def taken(name: str) -> str:
        with page.expect_download() as waits:
            take.get_by_role("link", name=name).click()
        return waits.value.path().read_text()

    document = json.loads(taken("Tides v2 in JSON"))
    assert "/stations/{id}/extremes" in document["paths"]
    assert document["components"]["securitySchemes"] == {
        "apiKey": {"type": "apiKey", "in": "header", "name": "X-API-Key"}
    }
    assert yaml.safe_load(taken("Tides v2 in YAML")) == document
    calls = json.loads(taken("all calls in an HTTP archive"))["log"]["entries"]
    assert document["servers"][0]["url"] + "/stations/lm-03/extremes" in [c["request"]["url"] for c in calls]


def test_a_client_is_made_when_asked_for_and_downloaded(people: People) -> None:
    page = people.page()
    page.goto("/portals/pilots/products/harbour-data?view=operations")
    take = page.get_by_role("region", name="To take along")
    for language in ("Python", "TypeScript"):
        take.get_by_role("button", name=f"make one for {language}, of Tides v2").click()
        link = take.get_by_role("link", name=f"{language}, as a package that installs, of Tides v2")
        expect(link).to_be_visible()
        with page.expect_download() as waits:
            link.click()
        assert waits.value.suggested_filename == f"harbour-data-tides-v2-{language.lower()}.zip"
        with zipfile.ZipFile(waits.value.path()) as archive:
            assert archive.testzip() is None and any(name.endswith("README.md") for name in archive.namelist())
    assert serious(page) == []


def test_the_pilots_portal_finds_nothing_that_it_does_not_offer(people: People) -> None:
    page = people.page()
    page.goto("/portals/pilots/?words=buoy")
    expect(page.get_by_text("No operation speaks of that.")).to_be_visible()
    page.get_by_label("Find an operation").fill("station")
    expect(page.get_by_role("search").get_by_role("listitem").first).to_contain_text("Harbour Data")
    page.goto("/portals/pilots/products/sea-watch?view=operations")
    expect(page.get_by_role("alert")).to_have_text("Sea-watch: there is no such product.")
