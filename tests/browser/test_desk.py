"""The desk: two people who agree, a question and its answer, a decision undone, several at once, and a limit that comes
with a grant."""

from __future__ import annotations

import json
import re
import time
from datetime import UTC, datetime

import httpx
from playwright.sync_api import Locator, Page, expect
from standardwebhooks import Webhook

from calm_tariff.services.base import webhooks
from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import PATIENCE, Processes, wait_for

ASK = """async ([name, slug, plan, purpose]) => {
    const ask = async (path, body) => (await fetch(`/portal/api/v1${path}`, body && {
        method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify(body),
    })).json();
    const app = await ask("/applications", {name});
    const offers = (await ask(`/products/${slug}`)).offers;
    const plan_id = offers.find((offer) => offer.name === plan).plan_id;
    const made = await ask("/requests", {application_id: app.id, plan_id, purpose, terms_accepted: true});
    return [app.id, made.id];
}"""


def enter(people: People, email: str) -> Page:
    """A member of the demo's, signed in by password."""
    page = people.page()
    page.goto("/portal/sign-in")
    page.get_by_label("E-mail address").fill(email)
    page.get_by_label("Password").fill("larkmouth-demo")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    return page


def asked(page: Page, name: str, slug: str, plan: str, purpose: str = "For the screens of our own.") -> tuple[int, int]:
    """The ids of an application and its request for a plan."""
    application, request = page.evaluate(ASK, [name, slug, plan, purpose])
    return application, request


def just_decided(page: Page, name: str) -> Locator:
    """What the desk says of a decision of a moment ago, once it is the desk that is shown."""
    expect(page).to_have_url(re.compile(r"/admit/desk(\?|$)"))
    return page.get_by_role("region", name="Decided just now").get_by_role("paragraph").filter(has_text=name)


def test_two_people_agree_and_neither_once_more_nor_another_role_counts(people: People) -> None:
    name = f"Twice {time.time_ns()}"
    page = enter(people, "olga@grebe.example")
    _, request = asked(page, name, "chart-tiles", "Ketch")
    rui, ines, tomas = people.staff("Rui"), people.staff("Ines"), people.staff("Tomas")
    for reviewer in (rui, ines):
        reviewer.goto(f"/admit/desk/{request}")
    expect(rui.get_by_role("status")).to_have_text("Ines has it open, too.")
    expect(rui.get_by_text("Two people decide.")).to_be_visible()
    rui.get_by_label("Words for the consumer").fill("The source is named.")
    rui.get_by_role("button", name="Agree").click()
    expect(rui.get_by_text("Rui has agreed: “The source is named.” It still needs a reviewer.")).to_be_visible()
    rui.get_by_role("button", name="Grant").click()
    expect(rui.get_by_role("alert")).to_contain_text("ou have agreed already; a second person decides")
    tomas.goto(f"/admit/desk/{request}")
    tomas.get_by_role("button", name="Grant").click()
    expect(tomas.get_by_role("alert")).to_contain_text("It waits for a reviewer; you are operations")
    assert serious(ines) == []
    expect(ines.get_by_text("It still needs a reviewer.")).to_be_visible()
    ines.locator("h1").click()
    ines.keyboard.press("g")
    expect(ines).to_have_url(re.compile(r"/admit/desk$"))
    expect(just_decided(ines, name)).to_contain_text("Granted")
    just_decided(ines, name).get_by_role("button", name="Undo").click()
    expect(ines.get_by_role("row").filter(has_text=name)).to_contain_text("needs a reviewer")
    page.request.delete(f"/portal/api/v1/requests/{request}")


def test_a_question_goes_back_is_answered_and_brings_the_request_back(people: People, product: Processes) -> None:
    name = f"Asked {time.time_ns()}"
    page, rui = enter(people, "lia@pontoon.example"), people.staff("Rui")
    application, request = asked(page, name, "harbour-data", "Ketch")
    rui.goto("/admit/desk?words=Pontoon")
    rui.get_by_role("row").filter(has_text=name).get_by_role("link").click()
    expect(rui.get_by_role("heading", name=name)).to_be_visible()
    rui.get_by_label("Words for the consumer").fill("How often would it ask?")
    rui.get_by_role("button", name="Ask back").click()
    expect(rui.get_by_text("it rests until there is an answer", exact=False)).to_be_visible()
    rui.get_by_label("Write about it").fill("They paid late in spring.")
    rui.get_by_role("button", name="Keep it as a note inside").click()
    expect(rui.get_by_text("They paid late in spring.")).to_be_visible()
    inbox = f"{product.standins}/mailbox.json?to=lia@pontoon.example"
    (letter, *_) = wait_for(
        lambda: [each for each in httpx.get(inbox).json() if "How often would it ask?" in each["body"]]
    )
    assert f"/portal/requests/{request}" in letter["body"]

    page.goto(f"/portal/applications/{application}")
    page.get_by_role("link", name="answer it").click()
    expect(page.get_by_role("region", name="Where it stands")).to_contain_text("It goes on once you have answered.")
    expect(page.get_by_text("How often would it ask?")).to_be_visible()
    expect(page.get_by_text("They paid late")).to_have_count(0)
    page.get_by_label("Your answer").fill("Once a minute, from six to ten.")
    assert serious(page) == []
    page.get_by_role("button", name="Send the answer").click()
    expect(page.get_by_role("region", name="Where it stands")).to_contain_text("Somebody there decides")
    expect(rui.get_by_text("Once a minute, from six to ten.")).to_be_visible()
    assert serious(rui) == []

    # Handed to a colleague, declined for a reason of the list, undone, and granted.
    rui.get_by_label("In the hands of").select_option(label="Ines, product manager and owner")
    expect(rui.get_by_text("To Ines.")).to_be_visible()
    rui.get_by_label("Reason, where it is declined").select_option("Another plan fits better")
    rui.get_by_role("button", name="Decline").click()
    expect(just_decided(rui, name)).to_contain_text("Declined")
    page.reload()
    expect(page.get_by_role("region", name="Where it stands")).to_contain_text("It waits for")
    just_decided(rui, name).get_by_role("button", name="Undo").click()
    row = rui.get_by_role("row").filter(has_text=name)
    expect(row).to_contain_text("Ines")
    row.get_by_role("link").click()
    rui.get_by_role("button", name="Grant", exact=True).click()
    just_decided(rui, name).get_by_role("button", name="Tell them now").click()
    granted = wait_for(
        lambda: [
            each
            for each in httpx.get(inbox).json()
            if each["subject"] == "Harbour Data · Ketch: granted" and f"/applications/{application}" in each["body"]
        ]
    )
    assert len(granted) == 1 and not [e for e in httpx.get(inbox).json() if "Another plan fits better" in e["body"]]


def test_several_are_decided_on_with_one_summary(people: People) -> None:
    stamp = time.time_ns()
    page, rui = enter(people, "rosa@thornhithe.example"), people.staff("Rui")
    names = [f"Board {n} {stamp}" for n in (1, 2)]
    for name in names:
        asked(page, name, "harbour-data", "Skiff")
    _, left = asked(page, f"Board 3 {stamp}", "harbour-data", "Schooner")
    rui.goto("/admit/desk?words=Thornhithe")
    for name in (*names, f"Board 3 {stamp}"):
        rui.get_by_role("checkbox", name=name).check()
    rui.get_by_role("button", name="Grant them").click()
    dialog = rui.get_by_role("dialog")
    expect(dialog.get_by_text("2 requests would be granted, €0.00 a month expected")).to_be_visible()
    third = dialog.get_by_role("row").filter(has_text=f"Board 3 {stamp}")
    expect(third).to_contain_text("agreed to; it still needs")
    assert serious(rui) == []
    dialog.get_by_role("button", name="Grant 3").click()
    dialog.get_by_role("button", name="Back to the desk").click()
    expect(dialog).to_have_count(0)
    for name in names:
        expect(rui.get_by_role("row").filter(has_text=name)).to_have_count(0)
        expect(just_decided(rui, name)).to_be_visible()
    expect(rui.get_by_role("row").filter(has_text=f"Board 3 {stamp}")).to_contain_text("needs a reviewer")
    page.request.delete(f"/portal/api/v1/requests/{left}")


def test_a_limit_that_comes_with_a_grant_is_in_force_at_once(people: People, product: Processes) -> None:
    name = f"Slow {time.time_ns()}"
    page, rui = enter(people, "vasco@quayside.example"), people.staff("Rui")
    application, request = asked(page, name, "harbour-data", "Ketch")
    made = page.evaluate(
        """async (id) => (await fetch(`/portal/api/v1/applications/${id}/keys`, {
            method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({label: "one"}),
        })).json()""",
        application,
    )
    rui.goto(f"/admit/desk/{request}")
    rui.get_by_role("button", name="another plan, free days or a limit of its own").click()
    dialog = rui.get_by_role("dialog")
    dialog.get_by_label("Free for the first").fill("5")
    dialog.get_by_label("A limit of its own").select_option("Rate")
    dialog.get_by_role("textbox", name="Calls").fill("1")
    dialog.get_by_label("in so many seconds").fill("3600")
    dialog.get_by_role("textbox", name="at once").fill("1")
    until = rui.evaluate("new Date(Date.now() + 9e8).toISOString().slice(0, 10)")
    dialog.get_by_label("Until the end of").fill(until)
    assert serious(rui) == []
    dialog.get_by_role("button", name="Grant it so").click()
    expect(just_decided(rui, name)).to_be_visible()

    def call() -> httpx.Response:
        address = f"{product.gateway}/tides/v2/stations/lm-01/extremes"
        return httpx.get(address, headers={"X-API-Key": made["secret"]}, timeout=PATIENCE)

    wait_for(lambda: call().status_code == 200)  # not before it was granted
    refused = call()
    assert (refused.status_code, refused.json()["limit"]) == (429, "Rate")
    page.goto(f"/portal/applications/{application}")
    expect(page.get_by_text("on trial since")).to_be_visible()


def test_what_is_decided_outside_comes_and_goes_while_the_desk_is_there_and_waits_while_it_is_away(
    people: People, product: Processes
) -> None:
    name = f"Outside {time.time_ns()}"
    page, rui = enter(people, "nuno@ospreyview.example"), people.staff("Rui")
    desk = httpx.Client(base_url=product.standins, timeout=PATIENCE)
    desk.put("/tickets-mood", json={"away": True})
    try:
        _, request = asked(page, name, "chart-tiles", "Schooner", "The chart beneath our pictures.")
        page.goto(f"/portal/requests/{request}")
        stands = page.get_by_role("region", name="Where it stands")
        expect(stands).to_contain_text("where a ticket is being opened for it")
        page.get_by_label("Write about it").fill("It is for the survey in May.")
        page.get_by_role("button", name="Send it").click()
        expect(page.get_by_text("It is for the survey in May.")).to_be_visible()
        # A desk that is away holds up nothing else: another request is asked, granted and told meanwhile.
        _, other = asked(page, f"Beside {name}", "harbour-data", "Skiff")
        rui.goto(f"/admit/desk/{other}")
        rui.get_by_role("button", name="Grant").click()
        just_decided(rui, f"Beside {name}").get_by_role("button", name="Tell them now").click()
        inbox = f"{product.standins}/mailbox.json?to=nuno@ospreyview.example"
        wait_for(lambda: [e for e in httpx.get(inbox).json() if e["subject"] == "Harbour Data · Skiff: granted"])
    finally:
        desk.put("/tickets-mood", json={"away": False})
    rui.goto(f"/admit/desk/{request}")
    standing = rui.get_by_role("region", name="How it stands")
    expect(standing).to_contain_text(re.compile(r"as ticket \d+"))
    number = re.search(r"as ticket (\d+)", standing.inner_text())[1]  # type: ignore[index]

    def ticket() -> dict[str, object]:
        return desk.get(f"/tickets/{number}.json").json()  # type: ignore[no-any-return]

    wait_for(lambda: "It is for the survey in May." in str(ticket()["comments"]))
    assert ticket()["facts"]["organisation"] == "Ospreyview Drones"  # type: ignore[index]
    desk.post(f"/tickets/{number}/comment", data={"text": "Which offices?"})
    desk.post(f"/tickets/{number}/comment", data={"text": "By Friday.", "public": "true"})
    expect(rui.get_by_text("Which offices?")).to_be_visible()
    expect(standing).to_contain_text("being looked at")
    expect(page.get_by_text("By Friday.")).to_be_visible()
    expect(page.get_by_text("Which offices?")).to_have_count(0)
    rui.get_by_label("Write about it").fill("The three harbour offices.")
    rui.get_by_role("button", name="Send it to the consumer").click()
    wait_for(lambda: "The three harbour offices." in str(ticket()["comments"]))
    assert serious(rui) == []

    # What somebody else signs grants nothing; what the desk signs does, once.
    body = json.dumps(
        {
            "type": "ticket.decided",
            "timestamp": "2026-01-01T00:00:00Z",
            "data": {"reference": f"request-{request}", "ticket": number, "decision": "granted"},
        }
    )
    now = datetime.now(UTC)

    def call_back(secret: str) -> int:
        signature = Webhook(webhooks.secret_of(secret)).sign("forged_1", now, body)
        fields = {
            "webhook-id": "forged_1",
            "webhook-timestamp": str(int(now.timestamp())),
            "webhook-signature": signature,
        }
        address = f"{product.web}/api/v1/ticket-desk/events"
        return httpx.post(address, content=body, headers=fields, timeout=PATIENCE).status_code

    assert call_back("what somebody else would like to sign with") == 401
    assert call_back(product.settings.ticket_desk_secret) == 204
    assert call_back(product.settings.ticket_desk_secret) == 409
    expect(stands).to_contain_text("It is granted.")
    expect(rui.get_by_text("by the ticket desk", exact=False)).to_be_visible()


def test_a_suspended_consumer_is_refused_within_a_second_and_told_why_until_it_is_resumed(
    people: People, product: Processes
) -> None:
    page, tomas = enter(people, "gil@seaholm.example"), people.staff("Tomas")
    application = page.evaluate("fetch('/portal/api/v1/applications').then(r => r.json()).then(all => all[0].id)")
    secret = page.evaluate(
        """async (id) => (await (await fetch(`/portal/api/v1/applications/${id}/keys`, {
            method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({label: "second"}),
        })).json()).secret""",
        application,
    )

    def call() -> httpx.Response:
        address = f"{product.gateway}/sea/v1/buoys/lm-b1/latest"
        return httpx.get(address, headers={"X-API-Key": secret}, timeout=PATIENCE)

    wait_for(lambda: call().status_code not in (401, 403))
    tomas.goto("/admit/consumers?words=Seaholm")
    tomas.get_by_role("link", name="Seaholm Radio").click()
    tomas.get_by_role("button", name="suspend it").click()
    dialog = tomas.get_by_role("dialog")
    expect(dialog).to_contain_text("1 member is told by mail, with your reason.")
    dialog.get_by_label("Why, for its members").fill("Your program asks without a pause.")
    assert serious(tomas) == []
    dialog.get_by_role("button", name="Refuse the calls of Seaholm Radio").click()
    expect(tomas.get_by_text("no call is let through")).to_be_visible()
    refused = wait_for(lambda: call() if call().status_code == 403 else None)
    assert refused.json()["code"] == "consumer-suspended"
    page.goto("/portal/applications")
    expect(page.get_by_text("has suspended Seaholm Radio: its calls are refused.")).to_contain_text(
        "Your program asks without a pause."
    )
    assert serious(page) == []
    note = f"Called them at {time.time_ns()}"
    tomas.get_by_label("A note for colleagues").fill(note)
    tomas.get_by_role("button", name="Keep the note").click()
    expect(tomas.get_by_text(note)).to_be_visible()
    tomas.get_by_role("button", name="Let its calls through again").click()
    expect(tomas.get_by_text("It was suspended from")).to_be_visible()
    assert serious(tomas) == []
    wait_for(lambda: call().status_code not in (401, 403))
    page.reload()
    expect(page.get_by_role("heading", name="My applications")).to_be_visible()
    expect(page.get_by_text("has suspended")).to_have_count(0)
    assert note not in page.content()
