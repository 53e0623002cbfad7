"""What was charged wrongly is put right: a line on a draft, a credit note for what is issued."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import People, last_month
from tests.browser.test_views import serious


def figure(page: Page, name: str) -> str:
    """What stands beside a sum at the foot of a document."""
    row = page.get_by_role("row").filter(has=page.get_by_role("cell", name=name, exact=True))
    return row.get_by_role("cell").last.inner_text()


def drafted(page: Page) -> None:
    """Have the month in view drafted, and wait until that is done."""
    with page.expect_response(re.compile("/periods/.*/run$")) as begun:
        page.get_by_role("button", name=re.compile("^(Make draft invoices|Charge anew)")).click()
    run = page.locator(f"[data-run='{begun.value.json()['id']}']")
    expect(run.get_by_text(re.compile("draft invoices? made"))).to_be_visible()


def test_a_line_is_added_to_a_draft_and_taken_off_again(people: People) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/periods")
    page.get_by_role("row").nth(1).get_by_role("link").click()
    drafted(page)
    page.get_by_role("row").filter(has_text="Thornhithe Harbour").get_by_role("link", name="a draft").click()
    expect(page.get_by_role("heading", name="Draft for Thornhithe Harbour")).to_be_visible()
    before = figure(page, "Total")
    page.get_by_role("button", name="Add a line…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("What stands on the invoice").fill("A week without tides")
    dialog.get_by_label("Amount before tax").fill("-7.005")
    dialog.get_by_label("Why").fill("Ticket 17")
    dialog.get_by_role("button", name="Add the line").click()
    amount = dialog.get_by_label("Amount before tax")
    expect(amount).to_have_accessible_description(re.compile("Must be in whole minor units of EUR"))
    assert serious(page) == []
    amount.fill("-7.00")
    dialog.get_by_role("button", name="Add the line").click()
    expect(dialog).to_have_count(0)
    adjustments = page.get_by_role("region", name="Adjustments")
    expect(adjustments.get_by_role("row").filter(has_text="Ticket 17")).to_contain_text("Beatriz")
    expect(page.get_by_role("button", name="-€7.00")).to_be_visible()
    assert figure(page, "Total") != before
    adjustments.get_by_role("button", name="take back").click()
    expect(page.get_by_text("A week without tides")).to_have_count(0)
    assert figure(page, "Total") == before


def test_part_of_an_invoice_is_credited_and_its_consumer_reads_why(people: People) -> None:
    page = people.staff("Beatriz")
    page.goto(f"/settle/periods/{last_month()}?show=everybody")
    page.get_by_role("row").filter(has_text="Gannet Ferries").get_by_role("link", name="INV-").click()
    page.get_by_role("button", name="credit something of it…").click()
    dialog = page.get_by_role("dialog")
    taken = dialog.get_by_label("Take back of Fee").first
    taken.fill("4000")
    dialog.get_by_label("Why").fill("Berths of Pellow were an hour off.")
    dialog.get_by_role("button", name="Issue the credit note").click()
    expect(taken).to_have_accessible_description(re.compile("left of the line"))
    taken.fill("2.00")
    said = dialog.get_by_text("Gannet Ferries is given back €2.46: €2.00 and €0.46 of tax.")
    expect(said).to_be_visible()
    assert serious(page) == []
    dialog.get_by_role("button", name="Issue the credit note").click()
    expect(dialog).to_have_count(0)
    expect(page.get_by_text("€2.00 credited since")).to_be_visible()
    page.get_by_role("link", name=re.compile("^CN-")).last.click()
    expect(page.get_by_role("heading", name="Credit note CN-")).to_be_visible()
    expect(page.get_by_text("Berths of Pellow were an hour off.")).to_be_visible()
    assert figure(page, "Total") == "€2.46"
    assert serious(page) == []

    own = people.member("Filipa")
    own.goto("/portal/invoices")
    own.get_by_role("row").filter(has_text="Berths of Pellow").get_by_role("link", name="CN-").click()
    expect(own.get_by_text("Berths of Pellow were an hour off.")).to_be_visible()
    assert figure(own, "Total") == "€2.46"
    assert serious(own) == []
    own.get_by_role("link", name="INV-").first.click()
    expect(own.get_by_text("takes €2.46 off it.")).to_be_visible()
