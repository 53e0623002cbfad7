"""A trial that ends: its units count down in view, and what was chosen follows it, on the page and on the wire."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_strangers import ask, product_of
from tests.echo import echoing
from tests.processes import PATIENCE, Processes, wait_for


@pytest.fixture(scope="module")
def back_end() -> Iterator[str]:
    with echoing() as url:
        yield url


def on_trial(page: Page, back_end: str, name: str, then: str) -> None:
    """A product of which three calls may be tried for a fortnight; a fourth costs 50 cents, or is refused."""
    product = product_of(page, back_end, name)
    sold = ask(page, "GET", f"/products/{product}")["operations"]
    meter = ask(page, "POST", "/meters", {"name": f"{name} handed in", "operations": sold, "outcomes": ["2xx"]})
    price = {"kind": "usage", "model": "per_unit", "meter": meter["key"], "unit": "0.50"}
    trial = {"days": 14, "units": "3", "meter": meter["key"], "then": then}
    terms = {"limits": [], "trial": trial, "pricing": {"prices": [price]}}
    plan = ask(page, "GET", f"/products/{product}/sheet")["plans"][-1]
    sheet = ask(page, "PUT", f"/plans/{plan['id']}/draft", {"terms": terms}, plan["edition"])
    editions = {str(p["id"]): p["edition"] for p in sheet["plans"]}
    ask(page, "POST", f"/products/{product}/publish", {"existing": "keep", "editions": editions})


@pytest.mark.parametrize(("then", "name"), [("charge", "Charted"), ("end", "Ended")])
def test_a_trial_is_over_with_its_last_unit_and_what_was_chosen_follows(
    people: People, product: Processes, back_end: str, then: str, name: str
) -> None:
    on_trial(people.staff("Ines"), back_end, name, then)
    page = people.page()
    page.goto("/portal/sign-in")
    page.get_by_label("E-mail address").fill("vasco@quayside.example")
    page.get_by_label("Password").fill("larkmouth-demo")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    page.goto(f"/portal/products/{name.lower()}")
    expect(page.get_by_text("14 days free", exact=False).first).to_be_visible()
    page.get_by_role("button", name="Choose Rowboat").first.click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("For the application").select_option(label="a new one")
    dialog.get_by_label("Name of the application").fill(f"{name} papers")
    dialog.get_by_label("What is it for?").fill("To hand papers in on the way.")
    dialog.get_by_role("checkbox").check()
    dialog.get_by_role("button", name="Subscribe").click()
    page.get_by_role("link", name=f"Open {name} papers").click()
    page.get_by_label("Label of a new key").fill("purser")
    page.get_by_role("button", name="Make a key").click()
    secret = page.get_by_test_id("secret").inner_text()
    page.get_by_role("button", name="I have kept it").click()

    def call() -> int:
        address = f"{product.gateway}/{name.lower()}/v1/pictures"
        headers = {"X-API-Key": secret, "Content-Type": "image/png"}
        return httpx.put(address, content=b"x", headers=headers, timeout=PATIENCE).status_code

    def shown(words: str) -> Any:
        wait_for(product.shipped)
        page.reload()
        return expect(page.get_by_text(words, exact=False).first).to_be_visible()

    def stands(words: str) -> bool:
        page.reload()
        expect(page.get_by_role("heading", name=f"{name} · Rowboat")).to_be_visible()
        return page.get_by_text(words).is_visible()

    wait_for(lambda: call() == 200)
    page.get_by_role("link", name="change, pause or end it").click()
    shown(f"2 of 3 {name.lower()} handed in")
    assert (call(), call()) == (200, 200)
    if then == "charge":
        assert call() == 200
        wait_for(lambda: stands("it is active"))
        page.goto("/portal/usage")
        page.get_by_role("button", name="open the lines").click()
        lines = page.get_by_role("row").filter(has_text=f"{name} handed in")
        expect(lines.get_by_role("cell").nth(1)).to_have_text("€0.00")  # the three that were free
        expect(lines.nth(1).get_by_role("cell").nth(1)).to_have_text("€0.50")
    else:
        assert call() == 403
        wait_for(lambda: stands("it is ended since"))
    page.goto(f"/portal/products/{name.lower()}")
    page.get_by_role("button", name="Choose Rowboat").first.click()
    had = "has had its trial of Charted: this begins without one" if then == "charge" else "and Rowboat is nothing else"
    expect(page.get_by_role("dialog")).to_contain_text(had)
    page.goto("/portal/notices")
    expect(page.get_by_text(f"The trial of {name} · Rowboat is over").first).to_be_visible()
