"""Documents as files: saved from the console and the portal, and a month put together in one archive."""

from __future__ import annotations

import io
import re
import zipfile
from pathlib import Path

from playwright.sync_api import Page, Route, expect
from pypdf import PdfReader

from tests.browser.conftest import People, last_month


def saved(page: Page, name: str, within: str = "main") -> bytes:
    """What a link saves."""
    link = page.locator(within).get_by_role("link", name=name)
    expect(link.first).to_be_visible()
    with page.expect_download() as download:
        link.first.click()
    return Path(download.value.path()).read_bytes()


def text(pdf: bytes) -> str:
    return " ".join(" ".join(page.extract_text() for page in PdfReader(io.BytesIO(pdf)).pages).split())


def test_an_invoice_is_saved_by_who_issued_it_and_by_who_pays_it(people: People, written: None) -> None:
    beatriz, leonor = people.staff("Beatriz"), people.member("Leonor")
    leonor.goto("/portal/invoices")
    # Credit notes name invoices, too, and may be there before these.
    issued = leonor.get_by_role("table").filter(has=leonor.get_by_role("columnheader", name="Due"))
    rows = issued.get_by_role("row").filter(has_text=re.compile("INV-"))
    number = rows.first.get_by_role("link").inner_text()
    rows.first.get_by_role("link").click()
    expect(leonor.get_by_role("heading", name=f"Invoice {number}")).to_be_visible()
    pdf = saved(leonor, "save the PDF")
    said = text(pdf)
    assert number in said and "Gannet Ferries" in said and "Tax number PT599999993" in said
    assert b"<cbc:ID>" + number.encode() in saved(leonor, "save it as UBL")

    beatriz.goto(f"/settle/invoices/{leonor.url.rsplit('/', 1)[-1]}")
    expect(beatriz.get_by_role("heading", name=f"Invoice {number}")).to_be_visible()
    assert saved(beatriz, "save the PDF", "body") == pdf
    assert saved(beatriz, "its lines", "body").startswith(b"document,kind,issued_on")

    leonor.goto("/portal/account")
    statement = text(saved(leonor, "Save this year’s statement as PDF"))
    assert "Statement of account" in statement and f"Invoice {number}" in statement


def test_a_month_is_put_together_while_one_is_elsewhere(people: People, written: None) -> None:
    page = people.staff("Beatriz")
    page.goto(f"/settle/periods/{last_month()}")
    # Before it is answered, leaving the page can keep it from being asked.
    with page.expect_response(lambda answer: answer.request.method == "POST" and answer.url.endswith("/bundles")):
        page.get_by_role("button", name=re.compile("put all documents together|put them together anew")).click()
    page.goto("/settle/accounts")
    expect(page.get_by_role("heading", name="Accounts")).to_be_visible()
    page.goto(f"/settle/periods/{last_month()}")
    archive = zipfile.ZipFile(io.BytesIO(saved(page, "as one archive", "body")))
    names = archive.namelist()
    assert {"lines.csv", "cost-and-usage.csv", "cost-and-usage.parquet"} <= set(names)
    pdfs = [name for name in names if name.endswith(".pdf")]
    assert len(pdfs) > 10 and archive.read(pdfs[0]).startswith(b"%PDF")
    assert saved(page, "CSV", "aside").startswith(b"BilledCost,BillingAccountId")


def test_the_margin_of_a_month_is_seen_once_it_stands(people: People, written: None) -> None:
    page = people.staff("Beatriz")
    late: list[Route] = []
    page.route("**/api/v1/handoff", lambda route: late.append(route), times=1)
    with page.expect_request("**/api/v1/handoff"):
        page.goto(f"/settle/periods/{last_month()}")
    expect(page.get_by_role("heading", level=1)).to_have_text(re.compile(r" \d{4}$"))  # the month is read
    rows = page.locator("aside").get_by_role("link", name="CSV")
    assert late and rows.count() == 0, "it would move under the pointer"
    late[0].continue_()
    expect(rows).to_be_visible()
    assert page.get_by_role("heading", name="Billed outside").is_visible()
