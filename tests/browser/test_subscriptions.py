"""What a consumer does with a subscription, seen on its page, on the wire and on the draft invoice."""

from __future__ import annotations

import re
import time
from decimal import Decimal
from typing import Any

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.browser.test_calling import asked
from tests.browser.test_views import serious
from tests.processes import PATIENCE, wait_for

MONEY = re.compile(r"€([\d,]+\.\d\d)")


def subscribed(page: Page, name: str) -> tuple[int, str]:
    """An application with a trial of a product that is open to everybody: its subscription, and a key."""
    asked(page, name, "sea-watch", "Skiff")
    made: dict[str, Any] = page.evaluate(
        """async (name) => {
            const all = await (await fetch("/portal/api/v1/applications")).json();
            const app = all.find((a) => a.name === name);
            const made = await fetch(`/portal/api/v1/applications/${app.id}/keys`, {
                method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({label: "own"}),
            });
            return {subscription: app.plans[0].subscription_id, secret: (await made.json()).secret};
        }""",
        name,
    )
    return made["subscription"], made["secret"]


def opened(page: Page, name: str) -> None:
    page.goto("/portal/applications")
    page.get_by_role("link", name=name).click()
    page.get_by_role("link", name="change, pause or end it").click()
    expect(page.get_by_role("region", name="What it comes to")).to_be_visible()


def choose(page: Page, what: str, plan: str = "", when: str = "") -> None:
    page.get_by_label("What to do", exact=True).select_option(label=what)
    if plan:
        page.get_by_label("The plan").select_option(label=plan)
    if when:
        moments = page.get_by_label("When").get_by_role("option")
        page.get_by_label("When").select_option(moments.filter(has_text=when).first.inner_text())


def drafted(people: People) -> Decimal:
    """The total of the running month's draft invoice of Gannet Ferries, once it is drafted anew."""
    staff = people.staff("Beatriz")
    total: str = staff.evaluate(
        """async () => {
            const ask = async (path, how) => (await fetch(`/api/v1${path}`, how)).json();
            const [{start}] = await ask("/periods");
            let run = await ask(`/periods/${start}/run`, {method: "POST"});
            while (run.state !== "done") run = await ask(`/charge-runs/${run.id}`);
            const {charges} = await ask(`/periods/${start}?words=Gannet`);
            return (await ask(`/invoices/${charges.rows[0].invoice_id}`)).total;
        }"""
    )
    return Decimal(total)


def test_a_subscription_is_paused_changed_and_ended_as_was_said_beforehand(people: People) -> None:
    page = people.member("Leonor")
    name = f"Moves {time.time_ns()}"
    _, secret = subscribed(page, name)

    def status() -> int:
        answer = httpx.get(f"{people.product.gateway}/sea/v1/buoys", headers={"X-API-Key": secret}, timeout=PATIENCE)
        return answer.status_code

    wait_for(lambda: status() == 200)
    opened(page, name)
    assert serious(page) == []

    # Its trial gives way to another plan, in the middle of the month: what is said is what the draft invoice comes to.
    choose(page, "move it to", "Schooner", "now")
    comes_to = page.get_by_role("region", name="What it comes to")
    expect(comes_to).to_contain_text("Today counts as a day of Schooner.")
    expect(comes_to).to_contain_text("the invoice would be")
    said = MONEY.findall(comes_to.get_by_text("the invoice would be").inner_text().split("the invoice would be")[1])
    before, after = said[1], said[0]
    assert drafted(people) == Decimal(before.replace(",", ""))
    page.get_by_role("button", name="Move it to Schooner now").click()
    expect(page.get_by_role("heading", name="Sea Watch · Schooner")).to_be_visible()
    assert drafted(people) == Decimal(after.replace(",", ""))

    choose(page, "pause it")
    expect(page.get_by_text("Calls are refused within a second.")).to_be_visible()
    page.get_by_role("button", name="Pause it").click()
    expect(page.get_by_text("it is paused: its calls are refused")).to_be_visible()
    wait_for(lambda: status() == 403)
    page.get_by_role("button", name="Let it go on").click()
    expect(page.get_by_text("it is active")).to_be_visible()
    wait_for(lambda: status() == 200)

    choose(page, "end it", when="with the end of")
    page.get_by_role("button", name="End it then").click()
    coming = page.get_by_role("region", name="What is to come")
    expect(coming).to_contain_text("it ends, as Leonor Brisa has said.")
    coming.get_by_role("button", name="leave it as it is").click()
    expect(coming).to_have_count(0)
    choose(page, "end it", when="now")
    page.get_by_role("button", name="End it now").click()
    expect(page.get_by_text("it is ended since")).to_be_visible()
    wait_for(lambda: status() == 403)
    assert serious(page) == []


def test_a_move_is_asked_for_where_a_person_decides_and_granted(people: People) -> None:
    page, staff = people.member("Marta"), people.staff("Rui")  # who has new terms of use, and nobody waits for that
    name = f"Reviewed {time.time_ns()}"
    page.evaluate(
        """async (name) => {
            const ask = async (path, body) => (await fetch(`/portal/api/v1${path}`, body && {
                method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify(body),
            })).json();
            const app = await ask("/applications", {name});
            const product = await ask("/products/harbour-data");
            const plan_id = product.offers.find((o) => o.name === "Skiff").plan_id;
            const asked = {application_id: app.id, plan_id, purpose: "Tides on a sign.", terms_accepted: true};
            await ask("/requests", asked);
        }""",
        name,
    )
    grant(staff, name)
    opened(page, name)
    choose(page, "move it to", "Ketch", "with the end of")
    page.get_by_role("button", name="Ask to move to Ketch").click()
    expect(page.get_by_role("alert")).to_contain_text("say in a sentence why", ignore_case=True)
    page.get_by_label("Why? A person decides on it.").fill("More signs from next month on.")
    page.get_by_role("button", name="Ask to move to Ketch").click()
    expect(page.get_by_text("A move to Ketch waits for a decision.")).to_be_visible()
    grant(staff, name, "It is on Skiff; granted, it moves with the end of its trial or month.")
    page.reload()
    expect(page.get_by_role("region", name="What is to come")).to_contain_text("it becomes Ketch, as Rui has said.")


def grant(staff: Page, name: str, sees: str = "") -> None:
    staff.goto("/admit/desk?words=Driftline")
    staff.get_by_role("row").filter(has_text=name).get_by_role("link").click()
    expect(staff.get_by_role("heading", name=name)).to_be_visible()
    if sees:
        expect(staff.get_by_role("region", name="The request")).to_contain_text(sees)
    staff.get_by_role("button", name="Grant").click()
    expect(staff).to_have_url(re.compile("/admit/desk$"))  # once it is granted: the request has no rows of that name
    expect(staff.get_by_role("row").filter(has_text=name)).to_have_count(0)


@pytest.mark.parametrize("width", [375, 1280])
def test_a_trial_counts_down_and_what_follows_it_is_chosen(people: People, width: int) -> None:
    page = people.page()
    page.set_viewport_size({"width": width, "height": 800})
    page.goto("/portal/sign-in")
    page.get_by_label("E-mail address").fill("pia@rowan.example")
    page.get_by_label("Password").fill("larkmouth-demo")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    opened(page, "Race office")
    trial = page.get_by_role("region", name="The trial")
    expect(trial).to_contain_text(re.compile(r"The trial runs until the end of .*: \d+ days? (is|are) left with today"))
    choose(page, "move it to", "Ketch", "when the trial ends")
    page.get_by_role("button", name="Let Ketch follow").click()
    expect(trial).to_contain_text("Then Ketch follows, with its charges.")
    choose(page, "end it", when="when the trial ends")
    expect(page.get_by_text("a whole month without a call costs nothing")).to_be_visible()
    page.get_by_role("button", name="End it then").click()
    expect(trial).to_contain_text("Nothing follows it: it ends then.")
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    assert serious(page) == []
