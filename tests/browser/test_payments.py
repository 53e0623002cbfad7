"""What the bank says: brought in as its file, matched where it is sure, else assigned by hand."""

from __future__ import annotations

import re
import time

import httpx
from playwright.sync_api import Page, expect

from calm_tariff.demo.scenario import PROVIDER
from tests.browser.conftest import People
from tests.browser.test_accounts import account_of, owed
from tests.browser.test_views import serious
from tests.processes import Processes

COLUMNS = {
    "Column of the day of booking": "day",
    "Column of the amount": "amount",
    "Column of the other side's name": "who",
    "Column of what was written": "what",
}


def bring_in(page: Page, name: str, text: str) -> None:
    page.get_by_role("button", name="Bring a statement in…").click()
    kind = "text/csv" if name.endswith(".csv") else "application/xml"
    file = {"name": name, "mimeType": kind, "buffer": text.encode()}
    page.get_by_role("dialog").get_by_label("From a file").set_input_files(file)


def test_a_transfer_without_the_reference_is_assigned_by_hand(people: People, product: Processes) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/payments")
    row = page.get_by_role("row").filter(has_text="berths and tides, thank you")
    expect(row).to_contain_text(re.compile("INV-.* of Quayside Freight has this amount open, is of a consumer"))
    assert serious(page) == []

    # The bank tells of one more, that nobody knows; bringing it in again brings nothing.
    stamp = str(time.time_ns())
    bank = f"{product.standins}/bank"
    transfer = {"amount": "77.10", "name": "Unknown Sails", "text": f"for nobody {stamp}"}
    httpx.post(f"{bank}/transfers", json=transfer).raise_for_status()
    text = httpx.get(f"{bank}/statement.xml", params={"iban": PROVIDER.iban}).text
    for known in (False, True):
        bring_in(page, "today.xml", text)
        dialog = page.get_by_role("dialog")
        dialog.get_by_role("button", name="Bring it in").click()
        said = "known already" if known else "1 new entry, 0 of them matched"
        expect(dialog.get_by_role("status")).to_contain_text(said)
        assert serious(page) == []
        dialog.get_by_role("button", name="On to what waits").click()
    unknown = page.get_by_role("row").filter(has_text=stamp)
    expect(unknown).to_contain_text("nothing speaks for any invoice")
    unknown.get_by_role("button", name="put aside").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Why").fill("Nobody here knows them.")
    assert serious(page) == []
    dialog.get_by_role("button", name="Put it aside").click()
    expect(dialog).to_have_count(0)  # while it is there, nothing behind it has a role
    expect(unknown).to_have_count(0)

    row.get_by_role("button", name="assign").click()
    expect(dialog.get_by_role("row").filter(has_text="Quayside Freight")).to_be_visible()
    amount = dialog.get_by_label("Amount for Quayside Freight")
    whole = amount.input_value()
    amount.fill("1.00")
    dialog.get_by_role("button", name="Book it").click()
    expect(dialog.get_by_text(re.compile(rf"come to 1\.00, and the entry is of {whole}"))).to_be_visible()
    amount.fill(whole)
    assert serious(page) == []
    dialog.get_by_role("button", name="Book it").click()
    expect(dialog).to_have_count(0)
    expect(row).to_have_count(0)
    page.get_by_role("link", name="Done", exact=True).click()
    done = page.get_by_role("row").filter(has_text="berths and tides, thank you")
    expect(done).to_contain_text(re.compile("assigned by Beatriz.* to Quayside Freight for INV-"))
    expect(page.get_by_role("row").filter(has_text=stamp)).to_contain_text("sent back by Beatriz")
    assert serious(page) == []

    # It was right; had it been wrong, it would wait again.
    done.get_by_role("button", name="wait again").click()
    dialog.get_by_label("Why").fill("Their other company paid it.")
    dialog.get_by_role("button", name="Have it wait again").click()
    expect(dialog).to_have_count(0)
    expect(done).to_have_count(0)
    account_of(page, "Quayside Freight")
    expect(page.locator("aside").get_by_role("heading", name="It owes")).to_be_visible()
    assert owed(page) == f"€{whole}"


def test_a_file_of_csv_is_read_by_the_columns_that_are_named_once(people: People) -> None:
    page, stamp = people.staff("Helena"), str(time.time_ns())
    page.goto("/settle/payments")
    text = f"day;amount;who;what\n01.11.2026;1.234,50;Some Mill;mill {stamp}\n31.13.2026;1,00;X;y\n"
    bring_in(page, "bank.csv", text)
    dialog = page.get_by_role("dialog")
    for label, column in COLUMNS.items():
        dialog.get_by_label(label).fill(column)
    dialog.get_by_label("Column of its account").fill("iban")
    dialog.get_by_label("It writes 31 December 2026 as").select_option("31.12.2026")
    dialog.get_by_label("Before the cents stands").select_option(",")
    dialog.get_by_role("button", name="Bring it in").click()
    account = dialog.get_by_label("Column of its account")
    expect(account).to_have_accessible_description(re.compile("has no column 'iban'", re.IGNORECASE))
    assert serious(page) == []
    account.fill("")
    dialog.get_by_role("button", name="Bring it in").click()
    expect(dialog.get_by_role("status")).to_contain_text("1 new entry")
    expect(dialog).to_contain_text("line 3: day: '31.13.2026' is no day such as 31.12.2026")
    dialog.get_by_role("button", name="On to what waits").click()
    expect(page.get_by_role("row").filter(has_text=stamp)).to_contain_text("€1,234.50")
    page.get_by_role("link", name="Statements", exact=True).click()
    row = page.get_by_role("row").filter(has_text="bank.csv").first
    expect(row).to_contain_text("Helena")
    row.get_by_role("button", name="1 entry").click()
    expect(row).to_contain_text("'31.13.2026' is no day")
    assert serious(page) == []
    page.get_by_role("button", name="Bring a statement in…").click()
    dialog.get_by_label("Or paste it").fill(text)
    expect(dialog.get_by_label("Column of the day of booking")).to_have_value("day")
