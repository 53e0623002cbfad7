"""What is owed: who is late is paused on the wire, pays, and goes on; what goes back is open again; credit is paid
out."""

from __future__ import annotations

import re

import httpx
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_desk import enter
from tests.browser.test_views import serious
from tests.processes import PATIENCE, Processes, wait_for

NEW_KEY = """async () => {
    const all = await (await fetch("/portal/api/v1/applications")).json();
    const application = all.find(each => each.name === "Harbour office");
    const made = await fetch(`/portal/api/v1/applications/${application.id}/keys`, {
        method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({label: "second"}),
    });
    return (await made.json()).secret;
}"""
CALL = "/tides/v1/stations"


def owed(page: Page) -> str:
    """What the margin of an account says is owed."""
    return page.locator("aside").get_by_text(re.compile("^€")).first.inner_text()


def account_of(page: Page, consumer: str) -> None:
    page.goto("/settle/accounts?words=" + consumer.split()[0])
    page.get_by_role("link", name=consumer).click()
    expect(page.get_by_role("heading", name=f"Account of {consumer}")).to_be_visible()


def book(page: Page, amount: str, reference: str = "") -> None:
    """Book a payment for what is due first."""
    page.get_by_role("button", name="Book a payment…").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Amount").fill(amount)
    dialog.get_by_label("What the bank's entry says").fill(reference)
    dialog.get_by_role("button", name="Book the payment").click()


def test_who_is_late_is_paused_on_the_wire_and_goes_on_once_it_has_paid(people: People, product: Processes) -> None:
    rosa, helena = enter(people, "rosa@thornhithe.example"), people.staff("Helena")
    paused = rosa.get_by_text(re.compile("Calls of Thornhithe Harbour are paused: invoice INV-.* is not paid"))
    expect(paused).to_be_visible()
    secret = rosa.evaluate(NEW_KEY)

    def call() -> httpx.Response:
        return httpx.get(f"{product.gateway}{CALL}", headers={"X-API-Key": secret}, timeout=PATIENCE)

    refused = wait_for(lambda: call() if call().status_code == 403 else None)
    assert refused.json()["code"] == "payment-overdue"
    rosa.get_by_role("link", name="See what is open").click()
    expect(rosa.get_by_text("Thornhithe Harbour owes")).to_be_visible()
    assert serious(rosa) == []
    rosa.get_by_role("table").first.get_by_role("link", name="INV-").first.click()
    expect(rosa.get_by_role("region", name="Paying it")).to_contain_text(re.compile(r"to PT50 .* reference RF\d\d "))
    assert serious(rosa) == []

    # Beatriz would write the oldest off; who has to agree does not.
    helena.get_by_role("link", name=re.compile("^Look at INV-")).click()
    expect(
        helena.get_by_text(re.compile("Beatriz wants to write €.* off; a second person has to agree"))
    ).to_be_visible()
    assert serious(helena) == []
    helena.get_by_role("button", name="write nothing off").click()
    expect(helena.get_by_text("wants to write")).to_have_count(0)

    helena.goto("/settle/accounts")
    row = helena.get_by_role("row").filter(has_text="Thornhithe Harbour")
    expect(row).to_contain_text("calls paused")
    assert serious(helena) == []
    row.get_by_role("link").click()
    expect(helena.get_by_text("until it is paid")).to_be_visible()
    whole = owed(helena)
    book(helena, "0.001")
    dialog = helena.get_by_role("dialog")
    expect(dialog.get_by_label("Amount")).to_have_accessible_description(re.compile("Must be in whole minor units"))
    assert serious(helena) == []
    dialog.get_by_label("Amount").fill(whole.lstrip("€"))
    dialog.get_by_role("button", name="Book the payment").click()
    expect(helena.locator("aside").get_by_role("heading", name="Nothing is owed")).to_be_visible()
    expect(helena.get_by_text("until it is paid")).to_have_count(0)
    wait_for(lambda: "payment-overdue" not in call().text)
    served = call()
    assert served.status_code == 200, served.text
    expect(helena.get_by_role("row").nth(1)).to_contain_text(re.compile("to INV-.* to INV-"))
    assert serious(helena) == []
    rosa.reload()
    expect(rosa.get_by_role("heading", name="Invoice INV-")).to_be_visible()
    expect(rosa.get_by_text(re.compile("payment"))).to_be_visible()
    expect(paused).to_have_count(0)


def test_a_payment_that_went_back_is_two_entries(people: People) -> None:
    page = people.staff("Beatriz")
    account_of(page, "Larkmouth Pilots")
    entries = page.get_by_role("table").first.locator("tbody tr")
    expect(entries.first).to_be_visible()
    before = entries.count()
    book(page, "12.34", "in advance")
    expect(entries).to_have_count(before + 1)
    expect(entries.first).to_contain_text("“in advance”")
    back = entries.first.get_by_role("button", name=re.compile("it went back"))
    back.click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("€12.34 of Larkmouth Pilots did not stay")
    dialog.get_by_label("Why").fill("It was somebody else's.")
    assert serious(page) == []
    dialog.get_by_role("button", name="Book that it went back").click()
    expect(entries).to_have_count(before + 2)
    expect(entries.first).to_contain_text("It was somebody else's.")
    expect(entries.nth(1)).to_contain_text("went back")
    assert serious(page) == []


def test_credit_is_paid_out(people: People) -> None:
    page = people.staff("Beatriz")
    account_of(page, "Pontoon Parcel")
    book(page, "700.00", "too much")
    expect(page.locator("aside").get_by_role("heading", name="We owe it")).to_be_visible()
    credit = owed(page)
    page.get_by_role("button", name="Book a refund…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_label("Amount")).to_have_value(credit.lstrip("€"))
    dialog.get_by_label("Amount").fill("5000")
    dialog.get_by_role("button", name="Book the refund").click()
    expect(dialog.get_by_label("Amount")).to_have_accessible_description(re.compile("more than the credit on account"))
    dialog.get_by_label("Amount").fill(credit.lstrip("€"))
    assert serious(page) == []
    dialog.get_by_role("button", name="Book the refund").click()
    expect(page.locator("aside").get_by_role("heading", name="Nothing is owed")).to_be_visible()
    expect(page.get_by_role("row").nth(1)).to_contain_text("Paid out")
