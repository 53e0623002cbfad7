"""A page is there as soon as its answers are, and one whose program does not arrive says so and can be tried again."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import People

PROGRAMS = re.compile(r"/assets/(?:pages|usage)-[^/]*\.js$")
# Every word that the page has shown so far.
KEEPS_WORDS = """
    window.words = "";
    new MutationObserver(() => { window.words += document.body?.innerText ?? "" })
        .observe(document, { childList: true, subtree: true, characterData: true });
"""


def opened(page: Page, path: str, heading: str) -> str:
    """What was to be read on the way to a page that is opened by its address."""
    page.goto(path)
    page.get_by_role("heading", level=1, name=heading).wait_for()
    return page.evaluate("window.words")


def test_a_page_opened_by_its_address_waits_once(people: People) -> None:
    # Words that a page's program is waited for would stand 300 ms, however soon it came.
    staff, member = people.staff("Ines"), people.member("Leonor")
    for page in (staff, member):
        page.add_init_script(KEEPS_WORDS)
    words = opened(staff, "/compose/products/1", "Harbour Data") + opened(staff, "/record", "The record")
    assert "Opening Calm Tariff" in words and "Opening the page" not in words
    words = opened(member, "/portal/usage", "Usage")
    assert "Opening the portal" in words and "Opening the page" not in words


def test_a_program_that_does_not_arrive_is_said_and_asked_for_again(people: People) -> None:
    staff, member = people.staff("Tomas"), people.member("Leonor")
    for page, path, heading in ((staff, "/observe/gateways", "Gateways"), (member, "/portal/usage", "Usage")):
        page.route(PROGRAMS, lambda route: route.abort())
        page.goto(path)
        expect(page.get_by_role("heading", name="This page could not be shown")).to_be_visible()
        page.unroute(PROGRAMS)
        page.get_by_role("button", name="Load it again").click()
        expect(page.get_by_role("heading", level=1, name=heading)).to_be_visible()
    assert sum("dynamically imported module" in told for told in people.told) == 2
