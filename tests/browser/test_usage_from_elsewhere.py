"""A file of another gateway's calls is brought in by hand, seen before anything is recorded, and turns into late lines
of the next invoice."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Page, expect

from tests.browser.conftest import People, last_month
from tests.browser.test_correcting import drafted
from tests.browser.test_views import serious
from tests.processes import Processes


def bring(page: Page, path: Path, source: str = "") -> None:
    page.goto("/settle/usage")
    page.get_by_role("button", name="Bring a file in…").click()
    dialog = page.get_by_role("dialog", name="Bring a file in")
    dialog.get_by_label("Calls as CSV").set_input_files(path)
    dialog.get_by_label("Source of rows that name none").fill(source)
    assert serious(page) == []
    dialog.get_by_role("button", name="Check its rows").click()


def test_a_late_file_turns_into_late_lines_of_the_next_invoice(
    people: People, product: Processes, tmp_path: Path
) -> None:
    file = tmp_path / "late-usage.csv"
    file.write_text(product.late_usage)
    page = people.staff("Beatriz")
    bring(page, file)
    expect(page.get_by_role("heading", name="late-usage.csv")).to_be_visible()
    standing = page.get_by_role("region", name="How it stands")
    expect(standing).to_contain_text("6,001 rows. 5,999 calls are new.")
    expect(standing).to_contain_text("1 row says a call again that is known already")
    unusable = page.get_by_role("region", name="Rows of no use")
    expect(unusable.get_by_role("row").nth(1)).to_contain_text("path: /tides/v0/stations is of no API")
    comes_to = page.get_by_role("region", name="What it comes to")
    expect(comes_to.get_by_role("row").nth(1)).to_contain_text(
        re.compile(r"Pelorus Cover.*5,999.*late:.*INV-", re.DOTALL)
    )
    assert serious(page) == []
    record = page.get_by_role("button", name="Record 5,999 calls")
    expect(record).to_be_disabled()
    standing.get_by_label("and leave out 1 row").check()
    record.click()
    expect(standing).to_contain_text("5,999 calls were recorded.")
    comes_to.get_by_role("link", name="5,999", exact=True).click()
    expect(page.get_by_role("heading", name="Traffic")).to_be_visible()
    expect(page.get_by_text("5,999 calls in view")).to_be_visible()
    page.get_by_role("row").filter(has_text="elsewhere").first.click()
    receipt = page.get_by_role("complementary", name="Margin")
    expect(receipt).to_contain_text("Another gateway let it through")
    expect(receipt).to_contain_text("saltgrave-pontoon answered 200")
    page.goto(f"/settle/periods/{last_month()}")
    arrived = page.get_by_role("complementary", name="Margin")
    expect(arrived).to_contain_text(re.compile(r"Arrived late.*Pelorus Cover", re.DOTALL))
    page.goto("/settle/periods")
    page.get_by_role("row").nth(1).get_by_role("link").click()
    drafted(page)
    page.get_by_role("row").filter(has_text="Pelorus Cover").get_by_role("link", name="a draft").click()
    expect(page.get_by_role("heading", name="Draft for Pelorus Cover")).to_be_visible()
    late = page.get_by_role("row").filter(has_text=re.compile("Late for .*, charged before on INV-"))
    expect(late).to_have_count(1)
    own_and_late = page.get_by_role("row").filter(has=page.get_by_role("cell", name="Forecast calls", exact=True))
    expect(own_and_late).to_have_count(2)


def test_a_file_brought_in_twice_adds_nothing_and_one_that_is_none_says_why(
    people: People, product: Processes, tmp_path: Path
) -> None:
    rows = product.late_usage.splitlines()
    few = [rows[0], *(line.replace("saltgrave-pontoon", "") for line in rows[1:6])]
    file = tmp_path / "few.csv"
    file.write_text("\n".join(few))
    page = people.staff("Tomas")
    bring(page, file, source="a second pontoon")
    page.get_by_role("button", name="Record 5 calls").click()
    expect(page.get_by_role("region", name="How it stands")).to_contain_text("5 calls were recorded.")
    bring(page, file, source="a second pontoon")
    standing = page.get_by_role("region", name="How it stands")
    expect(standing).to_contain_text("0 calls are new. 5 rows say a call again that is known already")
    page.get_by_role("button", name="put the file away").click()
    expect(page.get_by_role("heading", name="Usage from elsewhere")).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="few.csv")).to_have_count(1)
    other = tmp_path / "boats.csv"
    other.write_text("boat,length\nGannet,12\n")
    bring(page, other)
    dialog = page.get_by_role("dialog", name="Bring a file in")
    expect(dialog).to_contain_text("column 'boat', which calls have not")


def test_who_is_neither_finance_nor_operations_reads_and_brings_nothing_in(people: People) -> None:
    page = people.staff("Rui")
    page.goto("/settle/usage")
    expect(page.get_by_role("heading", name="What stands in a file")).to_be_visible()
    expect(page.get_by_role("button", name="Bring a file in…")).to_have_count(0)
