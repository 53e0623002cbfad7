"""Calls are struck out after their consequences were seen, in the log and one by one, and count again."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import People, last_month
from tests.browser.test_views import serious

WHOSE = "Gannet Ferries"


def log_of(page: Page, consumer: str) -> None:
    page.goto("/observe/traffic")
    page.get_by_label("Consumer", exact=True).fill(consumer)
    expect(page.get_by_role("button", name="strike them out…")).to_be_visible()


def test_calls_of_an_issued_month_that_cost_nothing_are_struck_out_and_the_charge_stays(people: People) -> None:
    page = people.staff("Beatriz")
    log_of(page, WHOSE)
    page.get_by_role("button", name="strike them out…").click()
    dialog = page.get_by_role("dialog", name="Strike calls out")
    dialog.get_by_label("From the day").fill(f"{last_month()[:8]}05")
    dialog.get_by_label("To the day, included").fill(f"{last_month()[:8]}06")
    changes = dialog.get_by_role("region", name="What it changes")
    expect(changes).to_contain_text(re.compile(r"made 5 \w+, \d\d:\d\d to 6 \w+, \d\d:\d\d\."))
    expect(changes).to_contain_text("before tax €80.00, as now")
    expect(changes).not_to_contain_text("credit note")
    assert serious(page) == []
    strike = dialog.get_by_role("button", name=re.compile(r"^Strike [\d,]+ calls out$"))
    many = re.sub(r"\D", "", strike.inner_text())
    assert 0 < int(many) < 2000
    dialog.get_by_label("Why").fill("Their timetable ran in a loop; agreed on the phone.")
    strike.click()
    expect(dialog).to_have_count(0)
    page.goto("/settle/struck-out")
    row = page.get_by_role("row").filter(has_text="ran in a loop").filter(has_text=WHOSE)
    expect(row).to_contain_text(re.compile(rf"{int(many):,} calls of"))
    assert serious(page) == []
    row.get_by_role("link", name=WHOSE).click()
    expect(page.get_by_text("struck out").first).to_be_visible()
    page.get_by_role("row").filter(has_text="struck out").first.click()
    margin = page.get_by_role("complementary", name="Margin")
    expect(margin).to_contain_text("Struck out: it no longer counts")
    expect(margin).to_contain_text("by Beatriz")
    expect(margin.get_by_role("button", name="strike it out…")).to_have_count(0)
    page.goto("/settle/struck-out")
    row.get_by_role("button", name="count again").click()
    again = page.get_by_role("dialog")
    again.get_by_label("Why").fill("It was real traffic after all.")
    assert serious(page) == []
    again.get_by_role("button", name="Have them count again").click()
    expect(row).to_contain_text("They count again: Beatriz")
    expect(row.get_by_role("button", name="count again")).to_have_count(0)


def test_one_call_is_struck_out_from_its_receipt(people: People) -> None:
    page = people.staff("Beatriz")
    log_of(page, "Quayside Freight")
    page.get_by_role("row").filter(has_text="Quayside Freight").filter(has_text="served").first.click()
    margin = page.get_by_role("complementary", name="Margin")
    margin.get_by_role("button", name="strike it out…").click()
    dialog = page.get_by_role("dialog", name="Strike this call out")
    changes = dialog.get_by_role("region", name="What it changes")
    expect(changes).to_contain_text("1 call of Quayside Freight")
    expect(changes).to_contain_text("It stays recorded, marked, and no longer counts.")
    dialog.get_by_role("button", name="Strike 1 call out").click()
    expect(dialog.get_by_label("Why")).to_be_focused()  # without a reason nothing is done
    dialog.get_by_label("Why").fill("Asked for by Vasco.")
    dialog.get_by_role("button", name="Strike 1 call out").click()
    expect(dialog).to_have_count(0)
    expect(margin).to_contain_text("Struck out: it no longer counts")


def test_a_stretch_with_nothing_in_it_and_one_too_long_say_so(people: People) -> None:
    page = people.staff("Beatriz")
    log_of(page, WHOSE)
    page.get_by_role("button", name="strike them out…").click()
    dialog = page.get_by_role("dialog", name="Strike calls out")
    dialog.get_by_label("From the day").fill("2020-01-01")
    dialog.get_by_label("To the day, included").fill("2020-01-02")
    expect(dialog).to_contain_text("No call of Gannet Ferries is meant that counts")
    expect(dialog.get_by_role("button", name="Strike 0 calls out")).to_be_disabled()


def test_who_is_not_of_finance_strikes_nothing_out(people: People) -> None:
    page = people.staff("Tomas")
    page.goto("/observe/traffic")
    page.get_by_label("Consumer", exact=True).fill(WHOSE)
    expect(page.get_by_role("link", name="Save as CSV")).to_have_attribute("href", re.compile("consumer="))
    expect(page.get_by_role("button", name="strike them out…")).to_have_count(0)
    page.goto("/settle/struck-out")
    expect(page.get_by_role("heading", name="Where calls are struck out")).to_be_visible()
    expect(page.get_by_role("button", name="count again")).to_have_count(0)
