"""What is written to whom, in the browser: other words for a notice, seen in the next letter; and the mail log."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import PATIENCE, Processes

INES = "ines@larkmouth.example"


def letter(product: Processes, to: str, subject: str) -> dict[str, Any]:
    """The letter of a subject, once it has come."""
    until = time.monotonic() + PATIENCE
    while True:
        got = httpx.get(f"{product.standins}/mailbox.json?to={to}", timeout=PATIENCE).json()
        found = [one for one in got if one["subject"] == subject]
        if found or time.monotonic() > until:
            return found[0]  # type: ignore[no-any-return]
        time.sleep(0.2)


@contextmanager
def as_shipped(page: Page, name: str) -> Iterator[None]:
    """A kind of notice is told as it ships at the end, whatever happened."""
    try:
        yield
    finally:
        address = f"/api/v1/notice-kinds/{name}"
        edition = page.request.get(address).json()["edition"]
        headers = {"If-Match": f'"{edition}"'}
        assert page.request.put(address, data={"words": None, "by_mail": True}, headers=headers).ok


@contextmanager
def refused(product: Processes, *addresses: str) -> Iterator[None]:
    """The mail server takes nothing for these."""
    mood = f"{product.standins}/mailbox-mood"
    try:
        assert httpx.put(mood, json={"refuses": addresses}, timeout=PATIENCE).is_success
        yield
    finally:
        assert httpx.put(mood, json={"refuses": []}, timeout=PATIENCE).is_success


def test_a_notice_is_put_in_other_words_and_the_next_letter_is_in_them(people: People) -> None:
    ines, product = people.staff("Ines"), people.product
    with as_shipped(ines, "member_joined"), as_shipped(ines, "sign-in_changed"):
        ines.goto("/house/people")
        ines.get_by_role("link", name="Notices", exact=True).click()
        members = ines.get_by_role("region", name="Members")
        expect(members.get_by_role("row").filter(has_text="Role changed")).to_contain_text("as shipped")
        assert serious(ines) == []
        ines.get_by_role("region", name="Accounts and sign-in").get_by_role("link", name="Sign-in changed").click()
        subject, text = ines.get_by_label("Subject"), ines.get_by_label("Text", exact=True)
        shown = ines.get_by_role("region", name="As a letter")
        subject.fill("Your sign-in at {{ ofice }}")
        expect(shown.get_by_role("status")).to_contain_text("Subject: line 1: there is no ofice here")
        ines.get_by_role("button", name="Keep these words").click()
        expect(ines.get_by_role("alert")).to_contain_text("there is no ofice here, but")
        subject.fill("Your sign-in at {{ office }}: {{ what }}")
        text.fill("Hello,\n\n**something** changed: {{ what }}.\n\n{{ link }}")
        frame = ines.frame_locator("iframe[title='The letter']")
        expect(frame.get_by_role("heading", name=re.compile("^Your sign-in at Larkmouth"))).to_be_visible()
        expect(frame.locator("strong")).to_have_text("something")
        assert serious(ines) == []
        ines.get_by_label("HTML of its own").check()
        ines.get_by_label("HTML of the letter's body").fill("<h2>Changed: {{ what }}</h2>")
        expect(frame.get_by_role("heading", name=re.compile("^Changed: "))).to_be_visible()
        ines.get_by_role("button", name="Keep these words").click()
        expect(ines.get_by_role("button", name="back to the words that ship")).to_be_visible()
        expect(ines.get_by_text("Kept.")).to_be_visible()

        filipa = people.member("Filipa")  # whose password changes, and is the same as before
        first, second = "larkmouth-demo", "larkmouth-demo again"
        for old, new in ((first, second), (second, first)):
            changed = filipa.request.put("/portal/api/v1/password", data={"current": old, "new": new})
            assert changed.ok, changed.text()
        got = letter(product, "filipa@gannet.example", "Your sign-in at Larkmouth Tide Office: password")
        assert got["body"].replace("\r\n", "\n").startswith("Hello,\n\n**something** changed: password.")

        rui = people.staff("Rui")
        rui.goto("/house/notices/sign-in_changed")
        expect(rui.get_by_text("Product managers and owners of the house change them.")).to_be_visible()
        expect(rui.get_by_label("Subject")).to_be_disabled()
        ines.get_by_role("button", name="back to the words that ship").click()
        expect(ines.get_by_label("Subject")).to_have_value(re.compile("^{% if what in"))


def test_a_letter_that_is_refused_is_in_the_mail_log_and_is_sent_again(people: People) -> None:
    ines, product = people.staff("Ines"), people.product
    with refused(product, INES):
        ines.goto("/house/notices/plan_moved")
        ines.get_by_label("Subject").fill("A trial of words")
        ines.get_by_role("button", name="Send it to me").click()
        expect(ines.get_by_text(f"It is on its way to {INES}.")).to_be_visible()
        ines.get_by_role("link", name="Mail log").click()
        ines.get_by_label("Which letters").select_option("failed")
        row = ines.get_by_role("row").filter(has_text="A trial of words")
        expect(row).to_contain_text("failed")
        assert serious(ines) == []
        row.get_by_role("button", name="A trial of words").click()
        dialog = ines.get_by_role("dialog", name="A trial of words")
        expect(dialog).to_contain_text("552")
        expect(dialog.frame_locator("iframe").get_by_role("heading", name="A trial of words")).to_be_visible()
        assert serious(ines) == []
    dialog.get_by_role("button", name="Send it again").click()
    expect(dialog).to_contain_text(re.compile("written .*; sent "))
    assert letter(product, INES, "A trial of words")["to"] == INES
