"""The handoff: an unmapped consumer is mapped, one that was refused is put right, the sums agree, and what whoever
bills outside says is done."""

from __future__ import annotations

import re
import time
from collections.abc import Callable

import httpx
from playwright.sync_api import Locator, Page, expect

from tests.browser.conftest import People, last_month
from tests.browser.test_accounts import NEW_KEY, enter, wait_for
from tests.browser.test_views import serious
from tests.processes import PATIENCE, Processes

CALL = "/tiles/v1/sheets"


def row(page: Page, consumer: str) -> Locator:
    return page.locator("main").get_by_role("row").filter(has_text=consumer)


def until(page: Page, seen: Callable[[], bool]) -> None:
    """Wait until what the page's server says is so."""
    end = time.monotonic() + PATIENCE
    while not seen() and time.monotonic() < end:
        page.wait_for_timeout(200)
    assert seen()


def hours(page: Page, consumer: str, state: str) -> int:
    """How many hours of a consumer's are in a state."""
    found = page.request.get(f"/api/v1/handoff/events?state={state}&words={consumer}&rows=1").json()
    return int(found["total"])


def settled(page: Page, consumer: str) -> bool:
    """Whether nothing of a consumer waits or is being sent."""
    return hours(page, consumer, "waiting") == hours(page, consumer, "sent") == 0


def batches(page: Page) -> int:
    return int(page.request.get("/api/v1/handoff/batches").json()["total"])


def map_to(page: Page, consumer: str, customer: str) -> Locator:
    """Fill in which customer a consumer is, and say so; the dialog."""
    row(page, consumer).first.get_by_role("button", name=f"map {consumer}").click()
    dialog = page.get_by_role("dialog", name=f"{consumer} outside")
    expect(dialog.get_by_label("Customer there")).to_have_accessible_description(re.compile("It knows 6 of them"))
    assert serious(page) == []
    dialog.get_by_label("Customer there").fill(customer)
    dialog.get_by_role("button", name="Map it").click()
    return dialog


def test_an_unmapped_consumer_is_mapped_and_the_sums_agree_on_both_sides(people: People) -> None:
    page = people.staff("Beatriz")
    until(page, lambda: hours(page, "Ospreyview", "accepted") > 0 and hours(page, "Grebe", "refused") > 0)
    page.reload()
    expect(page.get_by_text("Outside billing refused usage of Grebe Games")).to_be_visible()
    expect(page.get_by_text("It says: there is no customer HL-2063.")).to_be_visible()
    page.get_by_role("link", name="Map them").click()
    first = page.locator("main").get_by_role("table").first.get_by_role("row").nth(1)
    expect(first).to_contain_text("Rowan Regatta")
    expect(first).to_contain_text("not mapped, and waits")
    expect(page.get_by_text("1 consumer is not mapped.")).to_be_visible()
    expect(row(page, "Grebe Games").first).to_contain_text("they do not know it")
    assert serious(page) == []

    waiting = hours(page, "Rowan", "waiting")
    assert waiting > 0
    dialog = map_to(page, "Rowan Regatta", "HL-2041")
    expect(dialog.get_by_text("is Ospreyview Drones already")).to_be_visible()
    dialog.get_by_label("Customer there").fill("HL-2068")
    dialog.get_by_role("button", name="Map it").click()
    expect(dialog).to_have_count(0)
    expect(row(page, "Rowan Regatta").first).to_contain_text("HL-2068 Rowan Regatta")
    expect(page.get_by_text("is not mapped.")).to_have_count(0)
    until(page, lambda: hours(page, "Rowan", "accepted") >= waiting)

    until(page, lambda: settled(page, "Grebe"))
    refused = hours(page, "Grebe", "refused")
    page.get_by_role("link", name=re.compile("^[0-9,]+$")).last.click()
    expect(page.get_by_role("button", name="Hand all of them on again")).to_be_visible()
    assert serious(page) == []
    before = batches(page)
    row(page, "Grebe Games").first.get_by_role("button", name=re.compile("^again Grebe Games")).click()
    until(page, lambda: batches(page) > before and settled(page, "Grebe"))
    assert hours(page, "Grebe", "refused") == refused  # it does not know it the second time either
    page.get_by_role("link", name="Consumers and plans").click()
    expect(map_to(page, "Grebe Games", "HL-2036")).to_have_count(0)
    until(page, lambda: hours(page, "Grebe", "accepted") >= refused)
    expect(row(page, "Grebe Games").first).not_to_contain_text("refused")

    page.get_by_role("link", name="Sums").click()
    page.goto(f"/settle/handoff/sums/{last_month()}")
    page.get_by_role("button", name="Ask what they have").click()
    sums = page.locator("main").get_by_role("table").get_by_role("row").filter(has_text="Chart Tiles")
    expect(sums.filter(has_text="agrees").first).to_be_visible()
    expect(sums.filter(has_text="differs")).to_have_count(0)
    assert serious(page) == []
    figures = row(page, "Ospreyview Drones").get_by_role("cell")
    assert figures.nth(1).inner_text() == figures.nth(2).inner_text() == figures.nth(5).inner_text().split()[0]
    figures.nth(2).get_by_role("link").click()
    expect(page.get_by_label("Consumer, application or reason")).to_have_value("Ospreyview Drones")
    batch = row(page, "Ospreyview Drones").first.get_by_role("link", name=re.compile("^batch"))
    batch.click()
    expect(page.get_by_text("Should they have lost it")).to_be_visible()
    page.get_by_role("button", name="Send it again").click()
    expect(page.locator("aside").get_by_text(re.compile("^accepted [0-9]+$"))).to_have_count(1)
    assert serious(page) == []


def test_who_does_not_pay_outside_is_paused_on_the_wire_until_it_has(people: People, product: Processes) -> None:
    nuno, page = enter(people, "nuno@ospreyview.example"), people.staff("Beatriz")
    secret = nuno.evaluate(NEW_KEY.replace("Harbour office", "Flight planner"))
    page.goto("/settle/handoff")
    known = row(page, "Ospreyview Drones").first
    expect(known).to_contain_text("HL-2041")

    def call() -> httpx.Response:
        return httpx.get(f"{product.gateway}{CALL}", headers={"X-API-Key": secret}, timeout=PATIENCE)

    def says(word: str, customer: str = "HL-2041") -> None:
        answer = httpx.post(f"{product.standins}/billing/customers/{customer}", data={"word": word}, timeout=PATIENCE)
        assert answer.status_code == 303

    wait_for(lambda: call() if call().status_code == 200 else None)
    says("unpaid")
    refused = wait_for(lambda: call() if call().status_code == 403 else None)
    assert refused.json()["code"] == "payment-overdue"
    page.reload()
    expect(known).to_contain_text(re.compile("has not paid HB-41"))
    nuno.reload()
    expect(
        nuno.get_by_text(re.compile("Calls of Ospreyview Drones are paused: invoice HB-41.* is not paid"))
    ).to_be_visible()
    says("paid")
    wait_for(lambda: call() if call().status_code == 200 else None)
    says("renumbered")
    page.goto("/settle/handoff/words")
    expect(row(page, "HL-2041 is known otherwise")).to_contain_text("It is HL-2041-B there from now on")
    expect(row(page, "HL-2041 has not paid")).to_contain_text("are held up until it is paid.")
    expect(row(page, "HL-2041 has paid")).to_contain_text("go on.")
    assert serious(page) == []
    nuno.goto("/portal/usage")
    expect(nuno.get_by_text("Use of Chart Tiles is billed elsewhere")).to_be_visible()


def test_a_product_is_billed_outside_and_here_again(people: People) -> None:
    """Sea Watch, from a month that has not begun: nothing of it changes before."""
    page = people.staff("Beatriz")
    page.goto("/settle/handoff")
    page.get_by_role("button", name="Bill a product outside…").click()
    dialog = page.get_by_role("dialog", name="Bill a product outside")
    expect(dialog.get_by_role("option", name="Chart Tiles")).to_have_count(0)
    dialog.get_by_label("Product").select_option(label="Sea Watch")
    months = dialog.get_by_label("From the beginning of").get_by_role("option")
    later, latest = months.nth(2).inner_text(), months.nth(3).inner_text()
    dialog.get_by_label("From the beginning of").select_option(label=later)
    assert serious(page) == []
    dialog.get_by_role("button", name="Bill it outside").click()
    margin = page.locator("aside").get_by_role("paragraph").filter(has_text="Sea Watch")
    expect(margin).to_contain_text(f"since {later}")
    margin.get_by_role("button", name="bill Sea Watch here again…").click()
    here = page.get_by_role("dialog", name="Bill Sea Watch here again")
    here.get_by_label("From the beginning of").select_option(label=latest)
    assert serious(page) == []
    here.get_by_role("button", name="Bill it here again").click()
    expect(margin).to_contain_text(f"until {latest} begins")
    page.goto("/settle/periods")
    expect(page.get_by_role("heading", name="Periods")).to_be_visible()
