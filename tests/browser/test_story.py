"""One plan from tariff to invoice, through the real interface, with real calls through the gateway."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from decimal import Decimal
from pathlib import Path

import httpx
from playwright.sync_api import Page, expect

from calm_tariff.core.keys import beginning
from tests.browser.conftest import People
from tests.browser.test_correcting import drafted
from tests.browser.test_house import letter_link
from tests.processes import Processes, wait_for


def rewrite(page: Page, field: str, value: str) -> None:
    """Change a word of a sentence in place."""
    words = page.locator(f'button[data-field="{field}"]').last
    words.click()
    editor = page.locator("main input:focus, main select:focus")
    if editor.evaluate("e => e.tagName") == "SELECT":
        editor.select_option(value)
    else:
        editor.fill(value)
        editor.press("Enter")


def change(page: Page, field: str, value: str) -> None:
    """Change a word and wait until the draft is saved."""
    rewrite(page, field, value)
    expect(page.get_by_text(re.compile(r"Draft of .*, saved|Saving"))).to_be_visible()
    expect(page.get_by_text("Saving …")).to_have_count(0)


def cell_action(page: Page, row: str, action: str, plan: int, nth: int = 0) -> None:
    """Choose an action of a plan's cell. `nth` tells rows of one name apart: allowance, then price."""
    cells = page.get_by_role("row").filter(has=page.get_by_role("rowheader", name=row, exact=True)).nth(nth)
    cell = cells.get_by_role("cell").nth(plan)
    cell.hover()
    cell.get_by_role("button", name=f"More for {row}").click()
    page.get_by_role("menuitem", name=action).click()
    expect(page.get_by_text("Saving …")).to_have_count(0)


def test_one_plan_from_tariff_to_invoice(people: People, product: Processes, tmp_path: Path) -> None:
    manager = people.staff("Ines")
    compose(manager, product)
    developer = people.page()
    subscribe(developer, product)
    reviewer = people.staff("Rui")
    admit(reviewer, product)
    secret = hand_over(developer)
    serve(product, secret)
    observe(people.staff("Tomas"), developer)
    settle(people.staff("Beatriz"), tmp_path)


def compose(page: Page, product: Processes) -> None:
    page.goto("/compose/apis/new")
    page.get_by_label("Name").fill("Tide Heights")
    page.get_by_label("Answers under").fill("/heights/v1")
    page.get_by_label("Back-end address", exact=True).fill(f"{product.standins}/tides")
    page.get_by_label("Path of operation 1").fill("/stations/{id}/tides")
    page.get_by_role("button", name="Add an operation").click()
    page.get_by_label("Path of operation 2").fill("/stations")
    page.get_by_role("button", name="Describe it").click()
    expect(page.get_by_role("heading", name="Tide Heights v1")).to_be_visible()
    expect(page.get_by_text("2 operations in no product")).to_be_visible()

    page.goto("/compose/meters/new")
    page.get_by_label("Name").fill("Height calls")
    page.get_by_role("group", name="Tide Heights v1").get_by_label("GET /stations/{id}/tides").check()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Height calls")).to_be_visible()

    page.goto("/compose/products/new")
    page.get_by_label("Name").fill("Shore Data")
    page.get_by_label("Terms of use").fill("Name the source.")
    group = page.get_by_role("group", name="Tide Heights v1")
    group.get_by_label("GET /stations/{id}/tides").check()
    group.get_by_label("GET /stations").first.check()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Shore Data")).to_be_visible()

    for place, name in enumerate(("Punt", "Lugger")):
        page.get_by_role("button", name="Add a plan").click()
        page.get_by_label("Name").fill(name)
        page.get_by_role("button", name="Add the plan").click()
        expect(page.get_by_role("columnheader", name=name)).to_be_visible()
        cell_action(page, "Rate", "Add a rate", place)
        cell_action(page, "Height calls", "Add an allowance", place)
    cell_action(page, "Fee", "Add a fee", 1)
    cell_action(page, "Height calls", "Sell units", 1, nth=1)
    cell_action(page, "Height calls", "Add a step", 1, nth=1)
    change(page, "limits.0.calls", "2")
    change(page, "limits.0.burst", "50")
    change(page, "limits.1.units", "1,000")
    change(page, "limits.1.when_spent", "charge")
    change(page, "pricing.prices.0.amount", "30")
    change(page, "pricing.prices.1.included", "5")
    change(page, "pricing.prices.1.tiers.0.up_to", "10")
    change(page, "pricing.prices.1.tiers.0.unit", "0.40")
    change(page, "pricing.prices.1.tiers.1.unit", "0.25")
    expect(page.get_by_text("€0.40 each to 10; €0.25 each after that")).to_be_visible()
    page.keyboard.press("Control+z")
    expect(page.get_by_text("€0.40 each to 10; €0.0010 each after that")).to_be_visible()
    page.keyboard.press("Control+y")
    expect(page.get_by_text("€0.40 each to 10; €0.25 each after that")).to_be_visible()
    page.get_by_role("button", name="Publish…").click()
    page.get_by_role("button", name="Publish 2 revisions").click()
    expect(page.get_by_text("As published; a change starts a draft.")).to_be_visible()
    # The revision is immutable: a later edit is a new draft beside it, and undoing it ends the draft.
    change(page, "limits.0.burst", "60")
    expect(page.get_by_text("Draft of Lugger revision 2")).to_be_visible()
    expect(page.get_by_text("up to 50 at once", exact=True)).to_be_visible()
    rewrite(page, "limits.0.burst", "50")
    expect(page.get_by_text("As published; a change starts a draft.")).to_be_visible()


def subscribe(page: Page, product: Processes) -> None:
    page.goto("/portal/sign-up")
    page.get_by_label("E-mail address").fill("nuno@anglers.example")
    page.get_by_role("button", name="Send me a letter").click()
    expect(page.get_by_role("status")).to_contain_text("A letter to nuno@anglers.example is on its way")
    page.goto(letter_link(product, "nuno@anglers.example"))
    page.get_by_label("Your name").fill("Nuno Rede")
    page.get_by_label("Your organisation").fill("Anglers Guild")
    page.get_by_label("New password").fill("under the pier")
    page.get_by_role("button", name="Make the account").click()
    page.get_by_role("button", name="Register an application").click()
    page.get_by_label("Name").fill("Catch diary")
    page.get_by_role("button", name="Register it").click()
    expect(page.get_by_role("heading", name="Catch diary")).to_be_visible()
    page.get_by_role("link", name="Data and plans").click()
    page.get_by_role("link", name="Compare the plans of Shore Data").click()
    page.get_by_label("Height calls a month", exact=True).fill("45")
    # 45 − 5 included: 10 × 0.40 + 30 × 0.25 on top of the fee.
    expect(page.get_by_role("columnheader", name="Lugger").get_by_text("€41.50")).to_be_visible()
    page.get_by_role("button", name="Choose Lugger").click()
    page.get_by_label("What is it for?").fill("Members look up the tide of their catch.")
    page.get_by_role("button", name="Ask for access").click()
    expect(page.get_by_role("alert")).to_have_text("The terms of use must be accepted.")
    page.get_by_label("I accept the terms of use").check()
    page.get_by_role("button", name="Ask for access").click()
    page.get_by_role("link", name="See where it stands").click()
    stands = page.get_by_role("region", name="Where it stands")
    expect(stands).to_contain_text("It waits for Larkmouth Tide Office.")
    expect(stands).to_contain_text("Somebody there decides, by the end of")
    page.get_by_role("link", name="My applications").click()
    page.get_by_role("link", name="Catch diary").click()
    expect(page.get_by_text("waiting for a decision")).to_be_visible()


def admit(page: Page, product: Processes) -> None:
    expect(page.get_by_text(re.compile(r"\d requests wait on the desk"))).to_be_visible()
    page.keyboard.press("2")
    page.get_by_role("link", name="Anglers Guild").click()
    expect(page.get_by_text("Members look up the tide of their catch.")).to_be_visible()
    request = page.get_by_role("region", name="The request")
    expect(request.get_by_role("row").filter(has_text="Height calls")).to_contain_text("45")
    expect(request).to_contain_text("That would be charged €41.50 a month, before tax.")
    page.get_by_label("Words for the consumer").fill("Welcome aboard.")
    page.get_by_role("button", name="Grant").click()
    expect(page.get_by_role("row").filter(has_text="Anglers Guild")).to_have_count(0)
    just_now = page.get_by_role("region", name="Decided just now").get_by_role("paragraph")
    just_now.filter(has_text="Anglers Guild").get_by_role("button", name="Tell them now").click()
    # The letter with which the account was made lies there already.
    address, subject = f"{product.standins}/mailbox.json?to=nuno@anglers.example", "Shore Data · Lugger: granted"
    letters = wait_for(lambda: [each for each in httpx.get(address).json() if each["subject"] == subject])
    assert "Welcome aboard." in letters[0]["body"]


def hand_over(page: Page) -> str:
    expect(page.get_by_text("active since")).to_be_visible()
    expect(page.get_by_text("Welcome aboard.")).to_have_count(0)
    page.get_by_label("Label of a new key").fill("boat")
    page.get_by_role("button", name="Make a key").click()
    secret = page.get_by_test_id("secret").inner_text()
    page.get_by_role("button", name="I have kept it").click()
    expect(page.get_by_text(f"{beginning(secret)}…", exact=True)).to_be_visible()
    page.reload()
    expect(page.get_by_text("boat")).to_be_visible()
    assert secret not in page.content()
    return secret


def serve(product: Processes, secret: str) -> None:
    address = f"{product.gateway}/heights/v1/stations/lm-03/tides"
    headers = {"X-API-Key": secret}
    wait_for(lambda: httpx.get(address, headers=headers).status_code == 200)
    statuses = [httpx.get(address, headers=headers).status_code for _ in range(41)]
    assert statuses == [200] * 41
    assert httpx.get(f"{product.gateway}/heights/v1/stations", headers=headers).status_code == 200
    assert httpx.get(f"{product.gateway}/tides/v1/stations", headers=headers).status_code == 403
    assert httpx.get(address, headers={"X-API-Key": secret + "x"}).status_code == 401
    with httpx.Client(headers=headers) as client, ThreadPoolExecutor(16) as pool:
        answers = list(pool.map(lambda _: client.get(f"{product.gateway}/heights/v1/stations"), range(80)))
    refused = next(answer for answer in answers if answer.status_code == 429)
    assert refused.json()["limit"] == "Rate"
    assert refused.headers["RateLimit-Policy"] == '"every api: rate";q=200;w=2, "rate";q=50;w=25'


def observe(page: Page, developer: Page) -> None:
    page.keyboard.press("3")
    page.get_by_label("Consumer", exact=True).fill("Anglers Guild")
    page.get_by_label("Verdict", exact=True).select_option("verdict is refused")
    page.get_by_role("row").filter(has_text="refused by Rate").first.click()
    margin = page.get_by_role("complementary", name="Margin")
    expect(margin.get_by_text("2 calls a second, up to 50 at once, for each key")).to_be_visible()
    expect(margin.get_by_text("Back end not asked")).to_be_visible()
    expect(margin.get_by_text(re.compile(r"^429\b"))).to_be_visible()  # a call's id may hold any three figures
    page.get_by_role("link", name="Allowances").click()
    row = page.get_by_role("row").filter(has_text="Anglers Guild")
    expect(row.get_by_text("42 of 1,000, 4% used")).to_be_visible()
    developer.get_by_role("link", name="Usage").click()
    expect(developer.get_by_text("42 of 1,000, 4% used")).to_be_visible()
    developer.get_by_label("Verdict", exact=True).select_option("served")
    developer.get_by_role("region", name="Calls").get_by_role("row").nth(1).get_by_role("button").click()
    expect(developer.get_by_role("complementary", name="Receipt").get_by_text("v1 answered 200")).to_be_visible()


def settle(page: Page, tmp_path: Path) -> None:
    page.keyboard.press("4")
    page.get_by_role("row").nth(1).get_by_role("link").click()
    running = page.get_by_role("row").filter(has_text="Anglers Guild").get_by_role("cell").last.inner_text()
    drafted(page)
    page.get_by_role("row").filter(has_text="Anglers Guild").get_by_role("link", name="a draft").click()
    expect(page.get_by_role("heading", name="Draft for Anglers Guild")).to_be_visible()
    usage = page.get_by_role("row").filter(has=page.get_by_role("cell", name="Height calls", exact=True))
    usage.get_by_role("button").click()
    expect(page.get_by_text("42 counted")).to_be_visible()
    expect(page.get_by_text("× €0.40")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Save the evidence file").click()
    evidence = tmp_path / "evidence.json"
    download.value.save_as(evidence)
    ran = subprocess.run(
        [sys.executable, "-m", "calm_tariff.cli", "rate", str(evidence)], capture_output=True, text=True, check=True
    )
    again = json.loads(ran.stdout)
    shown = [Decimal(text.replace("€", "")) for text in page.locator("tbody td:last-child > button").all_inner_texts()]
    assert shown == [Decimal(line["amount"]) for line in again["lines"]]
    assert Decimal(running.replace("€", "")) == Decimal(again["subtotal"])
    for name, value in (("Subtotal", "subtotal"), ("Total", "total")):
        row = page.get_by_role("row").filter(has=page.get_by_role("cell", name=name, exact=True))
        assert Decimal(row.get_by_role("cell").last.inner_text().replace("€", "")) == Decimal(again[value])
    # The day opens to the very calls, and each call to its receipt.
    page.locator("table table").last.get_by_role("link").click()
    expect(page.get_by_text("42 calls in view")).to_be_visible()
    page.get_by_role("row").nth(1).click()
    expect(page.get_by_text("1 counted on Height calls")).to_be_visible()
