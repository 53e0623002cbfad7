"""Every view: nothing serious for axe, the keyboard alone is enough, and lists do what lists do."""

from __future__ import annotations

import csv
import re
import time
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Page, Route, expect

from tests.browser.conftest import WAIT_MS, People, last_month
from tests.processes import wait_for

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
CONSOLE = {
    "Ines": [
        "/",
        "/compose/apis",
        "/compose/apis/new",
        "/compose/apis/1",
        "/compose/documents/new",
        "/compose/meters",
        "/compose/meters/1",
        "/compose/meters/4",
        "/compose/meters/new",
        "/compose/products",
        "/compose/products/new",
        "/compose/products/1",
        "/compose/products/2",
        "/compose/products/3",
        "/compose/revisions/1",
        "/compose/limits",
        "/compose/plans/6/limits",
        "/compose/plans/6/document",
        "/compose/tariff",
        "/compose/bench",
        "/compose/issuers",
        "/admit/imports",
        "/admit/subscriptions/2",
        "/admit/portals",
        "/admit/portals/2",
        "/house/people",
        "/house/tokens",
        "/house/settings",
        "/house/notices",
        "/house/notices/request_granted",
        "/house/letters",
        "/house/hooks",
        "/house/hooks/1",
        "/house/you",
        "/record",
        "/nowhere",
    ],
    "Rui": [
        "/",
        "/admit/desk",
        "/admit/desk?show=decided",
        "/admit/desk/1",
        "/admit/consumers",
        "/admit/consumers/1",
        "/admit/groups",
        "/admit/consumers/25",
    ],
    "Tomas": ["/observe/traffic", "/observe/traffic?verdict=refused", "/observe/allowances", "/observe/gateways"],
    "Beatriz": [
        "/settle/payments",
        "/settle/payments?show=card",
        "/settle/books",
        "/settle/handoff",
        "/settle/handoff/subscriptions",
        "/settle/handoff/events",
        "/settle/handoff/batches",
        f"/settle/handoff/sums/{last_month()}",
        "/settle/handoff/words",
        "/settle/books/journal",
        f"/settle/books/journal/{last_month()}",
        "/settle/books/accounts",
        f"/settle/books/{last_month()}",
        "/settle/periods",
        f"/settle/periods/{last_month()}",
        "/settle/invoices/1",
        "/settle/invoices/50",
    ],
}
PORTAL = [
    "/",
    "/products/harbour-data",
    "/products/harbour-data?view=operations",
    "/applications",
    "/applications/1",
    "/usage",
    "/you",
    "/notices",
    "/organisation",
    "/organisation/closing",
    "/invoices",
]


def serious(page: Page) -> list[str]:
    """What axe finds that is serious or critical on the page as it stands."""
    expect(page.get_by_text(" …", exact=False).filter(has_text="Reading")).to_have_count(0)
    # A page that draws nothing more is never idle to a browser without a screen: two of its frames are asked for.
    page.evaluate("new Promise(drawn => requestAnimationFrame(() => requestAnimationFrame(drawn)))")
    page.evaluate(AXE.read_text())
    # What stands in a frame is a page of its own; into one that may run no scripts axe cannot look anyway.
    found = page.evaluate("axe.run(document, {resultTypes: ['violations'], iframes: false})")
    return [
        f"{page.url}: {v['id']} {v['nodes'][0]['html'][:160]}"
        for v in found["violations"]
        if v["impact"] in ("serious", "critical")
    ]


@pytest.mark.parametrize("who", list(CONSOLE))
def test_axe_finds_nothing_serious_in_the_console(people: People, who: str) -> None:
    page = people.staff(who)
    found = []
    for path in CONSOLE[who]:
        page.goto(path)
        page.get_by_role("heading", level=1).wait_for()
        found += serious(page)
    assert found == []


def test_axe_finds_nothing_serious_in_the_portal_or_at_night(people: People) -> None:
    page = people.page()
    found = []
    for path in (
        "/",
        "/forgotten",
        "/reset#x",
        "/portal/",
        "/portal/sign-in",
        "/portal/sign-up",
        "/portal/confirm#x",
        "/portal/forgotten",
        "/portal/reset#x",
    ):
        page.goto(path)
        page.get_by_role("heading", level=1).first.wait_for()
        found += serious(page)
    page = people.member("Leonor")
    for path in PORTAL:
        page.goto(f"/portal{path}")
        page.get_by_role("heading", level=1).wait_for()
        found += serious(page)
    page.get_by_role("row").nth(1).get_by_role("link").click()
    page.get_by_role("heading", level=1).wait_for()
    found += serious(page)
    night = people.staff("Ines")
    night.emulate_media(color_scheme="dark")
    for path in ("/", "/compose/products/1", "/observe/traffic"):
        night.goto(path)
        night.get_by_role("heading", level=1).wait_for()
        found += serious(night)
    assert found == []


def test_the_keyboard_alone_is_enough(people: People) -> None:
    page = people.staff("Ines")
    page.keyboard.press("/")
    page.keyboard.type("harbour d")
    expect(page.get_by_role("option", name="Harbour Data product")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Harbour Data")).to_be_visible()
    word = page.locator('button[data-field="limits.0.burst"]').first
    word.focus()
    page.keyboard.press("Enter")
    page.keyboard.type("7")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Draft of Skiff revision 2, Ketch revision 3")).to_be_visible()
    expect(word).to_be_focused()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("Draft of Ketch revision 3")).to_be_visible()
    page.keyboard.press("Enter")
    page.keyboard.type("0")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Burst: must be above 0")
    page.keyboard.press("m")
    expect(page.get_by_role("button", name="Unfold the margin")).to_be_visible()
    page.keyboard.press("m")
    page.keyboard.press("3")
    expect(page.get_by_role("heading", level=1, name="Traffic")).to_be_visible()
    page.get_by_role("row").nth(3).wait_for()
    page.keyboard.press("j")
    page.keyboard.press("j")
    expect(page.locator("tr[aria-selected=true]")).to_have_count(1)
    page.keyboard.press("Enter")
    expect(page.get_by_text("Why this call was")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_text("Each call opens to its receipt")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()


def test_a_list_is_ordered_narrowed_kept_in_the_address_and_saved_as_it_is_shown(people: People) -> None:
    page = people.staff("Rui")
    page.goto("/admit/consumers")
    served = page.locator("tbody tr td:nth-child(4)")
    everybody = page.request.get("/api/v1/consumers").json()["total"]
    expect(served).to_have_count(everybody)
    for order, down in (("up", False), ("down", True)):
        page.get_by_role("button", name=re.compile("^Served")).click()
        expect(page).to_have_url(re.compile(f"sort=served&order={order}"))
        head = page.get_by_role("columnheader", name=re.compile("^Served"))
        expect(head).to_have_attribute("aria-sort", "descending" if down else "ascending")
        page.wait_for_function(
            """([down, all]) => { const n = [...document.querySelectorAll("tbody td:nth-child(4)")].map(
                cell => Number(cell.textContent.replaceAll(",", "")));
                return n.length === all && n.every((v, i) => i === 0 || (down ? n[i - 1] >= v : n[i - 1] <= v)) }""",
            arg=[down, everybody],
        )
    page.reload()
    expect(page.get_by_role("columnheader", name="Served ↓")).to_be_visible()
    page.get_by_label("Named").fill("PILOTS")
    expect(served).to_have_count(2)
    expect(page.get_by_text("2 in all")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Save as CSV").click()
    rows = list(csv.DictReader(Path(download.value.path()).read_text().splitlines()))
    assert {r["name"] for r in rows} == {"Larkmouth Pilots", "Saltgrave Pilots"}
    assert int(rows[0]["served"]) >= int(rows[1]["served"])
    page.get_by_label("Named").fill("nobody at all")
    expect(page.get_by_text("Nothing here has these words.")).to_be_visible()


def test_a_call_that_ends_while_the_log_is_first_read_is_shown_too(people: People) -> None:
    page = people.staff("Tomas")
    newest, late = "/api/v1/calls?verdict=refused", []
    path = "/tides/v1/stations/asked-for-here-alone"

    def hold_back(route: Route) -> None:
        """Answer with the log as it stood before one more call was recorded."""
        answer = route.fetch(timeout=WAIT_MS)
        if not late:
            late.append(httpx.get(f"{people.product.gateway}{path}").status_code)
            before = answer.json()["total"]
            wait_for(lambda: page.request.get(newest).json()["total"] > before)
            time.sleep(1.5)  # the stream of news has a beat of a second
        route.fulfill(response=answer)

    page.route("**/api/v1/calls?*", hold_back)
    page.goto("/observe/traffic?verdict=refused")
    expect(page.get_by_role("row").filter(has_text=path)).to_have_count(1)
    assert late == [401]


def test_long_names_are_cut_and_no_column_leaves_the_page(people: People) -> None:
    page = people.staff("Tomas")

    def with_long_names(route: Route) -> None:
        answer = route.fetch(timeout=WAIT_MS)
        told = answer.json()
        for line in told["rows"]:
            line |= dict.fromkeys(("consumer", "application", "refused_by"), "an unusually long name of something")
        route.fulfill(response=answer, json=told)

    page.route("**/api/v1/calls?*", with_long_names)
    page.goto("/observe/traffic?verdict=refused")
    cut = page.get_by_role("cell", name="an unusually long name of something", exact=True)
    expect(cut.first).to_be_visible()
    table = page.get_by_role("table").filter(has=cut)
    beyond = """table => {
        const place = table.parentElement, { paddingLeft, paddingRight } = getComputedStyle(place);
        return table.scrollWidth + parseFloat(paddingLeft) + parseFloat(paddingRight) - place.clientWidth }"""
    assert table.evaluate(beyond) <= 0
    assert cut.first.evaluate("cell => cell.scrollWidth > cell.clientWidth")
    assert cut.first.locator("[title='an unusually long name of something']").count() == 1
