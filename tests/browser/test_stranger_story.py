"""From a stranger to a first successful call, and all that comes after it, in one go: without a letter to anybody."""

from __future__ import annotations

from collections.abc import Callable

import httpx
from playwright.sync_api import expect

from tests.browser.conftest import People
from tests.browser.test_house import letter_link
from tests.browser.test_subscriptions import choose
from tests.processes import PATIENCE, Processes, wait_for

EXTREMES = "GET /tides/v2/stations/{id}/extremes"
MAIL = "ines.remo@rowers.example"


def granting(product: Processes, token: str) -> Callable[[], None]:
    """What grants the rowers' one waiting request, as a program of the provider's does."""
    script = httpx.Client(
        base_url=f"{product.web}/api/v1", headers={"Authorization": f"Bearer {token}"}, timeout=PATIENCE
    )

    def grant() -> None:
        (asked,) = [r for r in script.get("/requests").json()["rows"] if r["consumer"] == "Larkmouth Rowers"]
        answer = script.post(f"/requests/{asked['id']}/decision", json={"decision": "granted"})
        assert answer.is_success, answer.text

    return grant


def test_a_stranger_comes_to_a_first_call_and_goes_again(people: People, product: Processes) -> None:
    page = people.page()
    # Estimates, reads and tries without an account.
    page.goto("/portal/products/harbour-data")
    page.get_by_label("Forecast calls a month", exact=True).fill("900")
    page.get_by_label("Berth lookups a month", exact=True).fill("0")
    expect(page.get_by_role("status")).to_contain_text("Skiff costs least: nothing.")
    page.get_by_role("button", name="Operations", exact=True).click()
    page.get_by_role("button", name=EXTREMES).click()
    expect(page.get_by_text("How many days to look ahead.")).to_be_visible()

    # Signs up by letter.
    page.goto("/portal/sign-up")
    page.get_by_label("E-mail address").fill(MAIL)
    page.get_by_role("button", name="Send me a letter").click()
    expect(page.get_by_role("status")).to_contain_text(f"A letter to {MAIL} is on its way")
    page.goto(letter_link(product, MAIL))
    page.get_by_label("Your name").fill("Inês Remo")
    page.get_by_label("Your organisation").fill("Larkmouth Rowers")
    page.get_by_label("New password").fill("oars above the water")
    page.get_by_role("button", name="Make the account").click()
    expect(page.get_by_role("heading", name="Applications")).to_be_visible()

    # Chooses a plan, for an application that is registered with it.
    page.goto("/portal/products/harbour-data")
    page.get_by_role("button", name="Choose Skiff").first.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Name of the application").fill("Rowing times")
    dialog.get_by_label("What is it for?").fill("When the water is high enough at the slip.")
    dialog.get_by_role("checkbox").check()
    dialog.get_by_role("button", name="Ask for access").click()
    expect(dialog.get_by_role("button", name="Ask for access")).to_have_count(0)

    # A program of the provider's grants it.
    ines = people.staff("Ines")
    token = ines.request.post("/api/v1/service-tokens", data={"label": "rowers", "days": 2}).json()["token"]
    grant = granting(product, token)
    grant()

    # Makes a key, calls with it, and meets the limit.
    page.goto("/portal/applications")
    page.get_by_role("link", name="Rowing times").click()
    page.get_by_label("Label of a new key").fill("slip")
    page.get_by_role("button", name="Make a key").click()
    old = page.get_by_test_id("secret").inner_text()
    page.get_by_role("button", name="I have kept it").click()

    def status(secret: str) -> int:
        address = f"{product.gateway}/tides/v2/stations/lm-01/extremes"
        return httpx.get(address, headers={"X-API-Key": secret}, timeout=PATIENCE).status_code

    wait_for(lambda: status(old) in (200, 429))
    page.goto("/portal/products/harbour-data?view=operations&try=yes")
    page.get_by_role("button", name=EXTREMES).click()
    call = page.get_by_role("region", name="A call of it")
    call.get_by_label("id", exact=False).first.fill("lm-01")
    call.get_by_label("Credential").select_option("a key that I have")
    call.get_by_label("The key").fill(old)
    call.get_by_role("button", name="send until one is refused").click()
    expect(call.get_by_text("Then one was refused")).to_contain_text("Rate")
    expect(call.get_by_role("region", name="Receipt")).to_contain_text("Rate was reached")

    # Rotates it: both serve for a while.
    page.goto("/portal/applications")
    page.get_by_role("link", name="Rowing times").click()
    page.get_by_role("button", name="rotate").click()
    page.get_by_role("button", name="Make the new key").click()
    new = page.get_by_test_id("secret").inner_text()
    page.get_by_role("button", name="I have kept it").click()
    wait_for(lambda: status(new) == 200)
    wait_for(lambda: status(old) == 200)

    # Moves to a larger plan in the middle of the month; a person says so.
    page.get_by_role("link", name="change, pause or end it").click()
    choose(page, "move it to", "Ketch", "now")
    comes_to = page.get_by_role("region", name="What it comes to")
    expect(comes_to).to_contain_text("Today counts as a day of Ketch.")
    page.get_by_label("Why? A person decides on it.").fill("The regatta needs more of them.")
    page.get_by_label("Your order number, if invoices should carry one").fill("ROW-7")
    page.get_by_role("button", name="Ask to move to Ketch").click()
    expect(page.get_by_text("A move to Ketch waits for a decision.")).to_be_visible()
    grant()
    page.reload()
    expect(page.get_by_role("heading", name="Harbour Data · Ketch")).to_be_visible()

    # Pauses, and ends.
    choose(page, "pause it")
    page.get_by_role("button", name="Pause it").click()
    expect(page.get_by_text("it is paused: its calls are refused")).to_be_visible()
    wait_for(lambda: status(new) == 403)
    choose(page, "end it", when="now")
    page.get_by_role("button", name="End it now").click()
    expect(page.get_by_text("it is ended since")).to_be_visible()
