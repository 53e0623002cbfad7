"""`./calm screenshots`: one picture of each main view, from a running `./calm demo`."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

from tests.browser.conftest import ARGUMENTS, READING, SIZE, last_month

BASE = "http://127.0.0.1:8400"
FOLDER = Path(__file__).parents[2] / "docs" / "screenshots"
VIEWS = {
    "Ines": {
        "today": "/",
        "tariff-sheet": "/compose/products/1",
        "meter": "/compose/meters/5",
        "api": "/compose/apis/2",
        "bench": "/compose/bench?calls=60&rate=30&keys=1",
        "portal-edit": "/admit/portals/2",
    },
    "Rui": {"desk": "/admit/desk/9", "consumer": "/admit/consumers/1"},
    "Tomas": {
        "receipt": "/observe/traffic?verdict=refused",
        "allowances": "/observe/allowances",
        "gateways": "/observe/gateways",
    },
    "Beatriz": {
        "period": f"/settle/periods/{last_month()}",
        "invoice": f"/settle/periods/{last_month()}?show=everybody",
        "account": "/settle/accounts?words=Pontoon",
        "books": "/settle/books",
    },
}
PORTAL = {
    "portal-product": "/portal/products/harbour-data",
    "portal-usage": "/portal/usage",
    "portal-subscription": "/portal/applications",
    "portal-try": "/portal/products/harbour-data?view=operations&try=yes",
}


def main() -> None:
    """Sign in as each person and photograph their views."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS)
        for who, views in VIEWS.items():
            page = browser.new_context(viewport=SIZE, base_url=BASE).new_page()
            page.goto("/")
            page.get_by_role("button", name=who).click()
            page.get_by_role("heading", name="Today").wait_for()
            for name, path in views.items():
                _photograph(page, name, path)
        page = browser.new_context(viewport=SIZE, base_url=BASE).new_page()
        page.goto("/portal/sign-in")
        page.get_by_role("button", name="Marta").click()
        page.get_by_role("heading", name="My applications").wait_for()
        for name, path in PORTAL.items():
            _photograph(page, name, path)
        browser.close()


def _photograph(page: Page, name: str, path: str) -> None:
    page.goto(path)
    page.wait_for_timeout(1500)
    expect(page.get_by_text(READING)).to_have_count(0)
    _open(page, name)
    expect(page.get_by_text(READING)).to_have_count(0)
    page.wait_for_timeout(900)
    page.screenshot(path=FOLDER / f"{name}.png")


def _open(page: Page, name: str) -> None:
    """Bring a view into the state its picture shows."""
    if name == "receipt":
        page.get_by_role("row").filter(has_text="refused by Rate").first.click()
    if name == "bench":
        page.get_by_label("Plan", exact=True).select_option(label="Harbour Data · Ketch")
        page.get_by_label("Operation").select_option(label="GET /stations/{id}/tides, Tides v1")
        for terms in ("live", "draft"):
            page.get_by_label("Terms").select_option(terms)
            page.get_by_role("button", name="Fire").last.click()
            page.wait_for_timeout(4000)
        page.get_by_role("button", name="as figures").first.click()
        page.get_by_role("region", name="Run 2").get_by_role("row").nth(50).get_by_role("button").click()
    if name == "portal-subscription":
        page.locator("main h2").get_by_role("link").first.click()
        page.get_by_role("link", name="change, pause or end it").click()
        page.get_by_label("The plan").select_option(label="Schooner")
        page.get_by_text("Today counts as a day of Schooner.").wait_for()
    if name == "portal-try":
        page.get_by_role("button", name="GET /tides/v2/stations/{id}/extremes").click()
        page.get_by_label("At most").fill("500")
        page.get_by_role("button", name="send until one is refused").click()
        page.get_by_text("Then one was refused").wait_for()
        page.get_by_text("it would have been let in").first.wait_for()
        page.get_by_role("region", name="A call of it").evaluate("part => part.scrollIntoView()")
    if name == "account":
        page.get_by_role("link", name="Pontoon Parcel").click()
        page.get_by_role("heading", name="Account of Pontoon Parcel").wait_for()
    if name == "invoice":
        page.get_by_role("row").filter(has_text="Gannet Ferries").get_by_role("link").last.click()
        page.get_by_role("heading", name="Invoice").wait_for()
        page.locator("tbody button").nth(1).click()


if __name__ == "__main__":
    main()
