"""The books: looked through, a difference opened down to the call, a month of the journal saved and closed."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from beancount import loader
from playwright.sync_api import Page, expect
from sqlalchemy import Engine, text

from calm_tariff.store.base.connecting import engine
from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import PATIENCE
from tests.servers import RunDatabase


@pytest.fixture
def owner(database: RunDatabase, product: Any) -> Iterator[Engine]:
    """Whoever can change what nobody is to change."""
    made = engine(database.url(database.own("calm_browser")))
    yield made
    made.dispose()


def looked_through(page: Page) -> int:
    """Which time they were last looked through; 0 for never."""
    last = page.request.get("/api/v1/books").json()["last"]
    return last["id"] if last is not None else 0


def look_through(page: Page) -> None:
    """Have the books looked through, and wait until they were."""
    before = looked_through(page)
    page.get_by_role("button", name="Look through them now").click()
    until = time.monotonic() + PATIENCE
    while looked_through(page) == before and time.monotonic() < until:
        page.wait_for_timeout(200)
    assert looked_through(page) > before
    page.reload()


def test_the_books_are_looked_through_and_opened_down_to_the_calls(people: People) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/books")
    look_through(page)
    expect(page.get_by_role("heading", name="Everything agrees")).to_be_visible()
    assert serious(page) == []
    rows = page.locator("main").get_by_role("row")
    expect(rows.filter(has_text="Units of the calls are the sums")).to_contain_text("agree")
    calls = page.get_by_role("region", name="Calls by period")
    month = calls.get_by_role("row").nth(2)
    figures = [int(cell.replace(",", "") or 0) for cell in month.get_by_role("cell").all_inner_texts()[1:8]]
    assert figures[0] == sum(figures[1:]) > 0
    month.get_by_role("link").first.click()
    expect(page.get_by_role("heading", name=re.compile("Units of"))).to_be_visible()
    page.get_by_label("Consumer named").fill("gannet")
    row = page.get_by_role("row").filter(has_text="Forecast calls").first
    expect(row).to_contain_text("Gannet Ferries")
    said, charged = row.get_by_role("cell").nth(2), row.get_by_role("cell").nth(3)
    assert said.inner_text() == charged.inner_text()
    assert serious(page) == []
    many = said.inner_text()
    said.get_by_role("link").click()
    expect(page.get_by_role("heading", name="Traffic")).to_be_visible()
    expect(page.get_by_text(f"{many} calls in view")).to_be_visible()


def test_a_call_that_was_changed_by_hand_is_named(people: People, owner: Engine) -> None:
    page = people.staff("Beatriz")
    with owner.begin() as connection:
        changed = connection.execute(
            text(
                "SELECT call_id, units FROM `call` WHERE strike_id IS NULL AND units LIKE '{\"1\"%'"
                " ORDER BY at_us LIMIT 1 OFFSET 5000"
            )
        ).one()
        put = text("UPDATE `call` SET units = :units WHERE call_id = :call_id")
        connection.execute(put, {"units": '{"1":"4"}', "call_id": changed.call_id})
    try:
        page.goto("/settle/books")
        look_through(page)
        expect(page.get_by_role("heading", name="sums differ")).to_be_visible()
        index = page.get_by_role("navigation").filter(has_text="Struck out")
        expect(index.get_by_role("link", name=re.compile("Books"))).to_contain_text("2")
        wrong = page.get_by_role("link", name=changed.call_id).first
        expect(wrong).to_be_visible()
        expect(page.get_by_text("says 4, and its meter reads 1").first).to_be_visible()
        assert serious(page) == []
        wrong.click()
        expect(page.get_by_text(changed.call_id).first).to_be_visible()
    finally:
        with owner.begin() as connection:
            connection.execute(put, changed._asdict())
    page.goto("/settle/books")
    look_through(page)
    expect(page.get_by_role("heading", name="Everything agrees")).to_be_visible()


def saved(page: Page, name: str) -> str:
    with page.expect_download() as download:
        page.locator("aside").get_by_role("link", name=name).click()
    return Path(download.value.path()).read_text(encoding="utf-8")


def to_be_closed(page: Page) -> str:
    """The first day of the oldest month of the journal that is open: it is closed before those after it."""
    found = page.request.get("/api/v1/journal").json()
    return str(next(each["start"] for each in reversed(found) if each["over"] and not each["closed_at"]))


def test_a_month_of_the_journal_is_read_saved_and_closed(people: People) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/books")
    page.get_by_role("link", name="Names of accounts").click()
    row = page.get_by_role("row").filter(has_text="What consumers owe")
    row.get_by_role("button").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name of the account").fill("Receivable")
    dialog.get_by_role("button", name="Name it").click()
    expect(dialog.get_by_text("such as Income:Revenue")).to_be_visible()
    dialog.get_by_label("Name of the account").fill("Assets:Consumers")
    dialog.get_by_role("button", name="Name it").click()
    expect(row).to_contain_text("Assets:Consumers")
    assert serious(page) == []

    month = to_be_closed(page)
    page.goto(f"/settle/books/journal/{month}")
    account = page.get_by_role("button", name="Assets:Consumers")
    expect(account).to_be_visible()
    accounts, journal = saved(page, "its accounts"), saved(page, "plain-text double entry")
    _, errors, _ = loader.load_string(accounts + journal)
    assert errors == []
    assert saved(page, "CSV").startswith("day,entry,kind,reference,consumer")
    page.get_by_role("button", name="Expenses:Losses").click()
    expect(page.get_by_role("heading", name="What posts to Expenses:Losses")).to_be_visible()
    entries = page.get_by_role("region", name="Entries")
    assert serious(page) == []
    expect(entries.get_by_role("row").filter(has_text="Write-off of")).not_to_have_count(0)
    expect(entries.get_by_role("row").filter(has_text="Invoice ")).to_have_count(0)

    rui = people.staff("Rui")
    rui.goto(f"/settle/books/journal/{month}")
    expect(rui.get_by_text("Over, to be closed")).to_be_visible()
    expect(rui.get_by_role("button", name=re.compile("^Close "))).to_have_count(0)
    page.get_by_role("button", name=re.compile("^Close ")).click()
    page.get_by_role("dialog").get_by_role("button", name=re.compile("^Close ")).click()
    expect(page.get_by_text("Closed on")).to_be_visible()
    assert saved(page, "plain-text double entry") == journal
