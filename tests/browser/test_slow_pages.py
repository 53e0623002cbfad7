"""However slow a machine is, what is typed into the address stays typed."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from urllib.parse import parse_qs, urlsplit

from playwright.sync_api import Page, expect

from tests.browser.conftest import People


@contextmanager
def slow(page: Page) -> Iterator[None]:
    """The page's programs run at a twentieth of their speed."""
    session = page.context.new_cdp_session(page)
    session.send("Emulation.setCPUThrottlingRate", {"rate": 20})
    yield
    session.send("Emulation.setCPUThrottlingRate", {"rate": 1})


def asked(page: Page) -> dict[str, list[str]]:
    return parse_qs(urlsplit(page.url).query)


def test_what_is_typed_into_the_address_is_kept_to_the_letter(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/bench")
    fields = {"Calls": "21", "Calls a second": "17", "Keys": "3"}
    page.get_by_label("Calls", exact=True).wait_for()
    with slow(page):
        for label, value in fields.items():
            page.get_by_label(label, exact=True).fill(value)
        page.get_by_label("Operation").select_option(index=1)
        for label, value in fields.items():
            expect(page.get_by_label(label, exact=True)).to_have_value(value)
    assert {name: asked(page)[name] for name in ("calls", "rate", "keys")} == {
        "calls": ["21"],
        "rate": ["17"],
        "keys": ["3"],
    }
    page.goto("/admit/consumers")
    words = page.get_by_label("Named")
    words.focus()
    with slow(page):
        page.keyboard.type("silver fern harbour")  # one key after the other, as fast as they come
        expect(words).to_have_value("silver fern harbour")
    assert asked(page)["words"] == ["silver fern harbour"]
