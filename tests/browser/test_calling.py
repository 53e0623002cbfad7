"""A call of an operation: as a program that runs as it stands, and tried from its page."""

from __future__ import annotations

import io
import re
import subprocess
import sys
import time

import pytest
from PIL import Image
from playwright.sync_api import Locator, Page, Route, expect

from calm_tariff.core import keys
from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import wait_for

EXTREMES = "GET /tides/v2/stations/{id}/extremes"
RUN = {
    "Shell": ["sh", "-c"],
    "Python": [sys.executable, "-c"],
    "JavaScript": ["node", "--input-type=module", "-e"],
}


def opened(page: Page, operation: str, product: str = "harbour-data", trying: bool = True) -> Locator:
    """The operation with what can be called of it."""
    page.goto(f"/portal/products/{product}?view=operations{'&try=yes' if trying else ''}")
    page.get_by_role("button", name=operation, exact=False).first.click()
    call = page.get_by_role("region", name="A call of it")
    expect(call.get_by_label("Written in")).to_be_visible()
    return call


def program(call: Locator, language: str) -> str:
    call.get_by_label("Written in").select_option(language)
    return call.get_by_label(f"The call in {language}", exact=True).inner_text()


def run(language: str, text: str) -> str:
    done = subprocess.run([*RUN[language], text], capture_output=True, text=True, timeout=600)
    assert done.returncode == 0, done.stderr
    return done.stdout


def test_an_operation_is_tried_until_its_limit_and_its_programs_run_as_they_stand(people: People) -> None:
    page = people.member("Leonor")
    call = opened(page, EXTREMES, trying=False)
    expect(call.get_by_label("The call in Shell")).to_contain_text(re.compile(r"calmkey-live-\w{4}\.\.\."))
    call.get_by_role("button", name="Try this call").click()

    call.get_by_label("id", exact=False).first.fill("")
    call.get_by_role("button", name="Send the call").click()
    expect(call.get_by_role("alert")).to_have_text("Say id first.")
    call.get_by_label("id", exact=False).first.fill("lm-01")
    call.get_by_label("days").fill("1")
    call.get_by_role("button", name="Send the call").click()
    answer = call.get_by_role("region", name="The answer")
    expect(answer.get_by_role("status")).to_contain_text("Answered 200")
    expect(answer.get_by_text('station: "lm-01"')).to_be_visible()
    expect(answer.get_by_role("meter", name="rate", exact=True)).to_be_visible()
    receipt = answer.get_by_role("region", name="Receipt")
    expect(receipt).to_contain_text("Every limit had room, and the back end was asked.")
    expect(receipt).to_contain_text("for an hour, now active")
    answer.get_by_text("the request as sent").click()
    sent = answer.locator("pre", has_text="X-API-Key")
    expect(sent).to_contain_text("/tides/v2/stations/lm-01/extremes?days=1")
    secret = re.search(r"calmkey-sandbox-\w{39}", program(call, "Shell"))
    assert secret and secret[0] not in sent.inner_text() and keys.beginning(secret[0]) in sent.inner_text()
    answer.get_by_text(re.compile(r"^\d+ headers$")).click()
    expect(answer.get_by_role("row", name=re.compile("^call-id"))).to_contain_text("on its receipt")

    for language in RUN:
        assert "lm-01" in run(language, program(call, language)), language

    call.get_by_role("button", name="send until one is refused").click()
    told = call.get_by_text("Then one was refused")
    expect(told).to_have_text(re.compile(r"^\d+ calls were answered\. Then one was refused: Rate: .* for each key"))
    expect(answer.get_by_role("status")).to_contain_text("Answered 429")
    expect(receipt).to_contain_text("it would have been let in")
    call.get_by_text("2 tries of yours in this browser").click()
    assert serious(page) == []
    call.get_by_role("link", name="receipt").first.click()
    expect(page.get_by_role("complementary", name="Receipt")).to_contain_text("Rate was reached.")

    # What was tried stays with who tried it, and goes when they say so.
    call = opened(page, EXTREMES)
    call.get_by_text("2 tries of yours in this browser").click()
    assert secret[0] not in str(page.evaluate("Object.entries(localStorage)"))
    call.get_by_role("button", name="forget them").click()
    expect(call.get_by_text("tries of yours")).to_have_count(0)


def test_nothing_can_be_pressed_that_still_moves(people: People) -> None:
    """Applications that come late would move what is under the hand, between its going down and up."""
    page = people.member("Leonor")
    page.evaluate(
        """() => {
            const one = {at: new Date().toISOString(), slug: "harbour-data", operation: 1, what: "GET /",
                         status: 200, took: 1, call: "", before: 0};
            localStorage.setItem("tries /portal Gannet Ferries Leonor Brisa", JSON.stringify([one]));
        }"""
    )
    held: list[Route] = []
    page.route("**/api/v1/applications", lambda route: held.append(route))
    call = opened(page, EXTREMES)
    expect(call.get_by_text("Reading your applications")).to_be_visible()
    expect(call.get_by_label("The call in Shell")).to_be_visible()
    tries = call.get_by_text("1 try of yours in this browser")
    expect(tries).to_have_count(0)
    for route in held:
        route.continue_()
    tries.click()
    expect(call.get_by_role("button", name="forget them")).to_be_visible()


def test_every_language_writes_the_call_that_is_filled_in(people: People) -> None:
    page = people.member("Leonor")
    call = opened(page, "POST /berths/v1")
    expect(call.get_by_text("No sandbox answers it")).to_be_visible()
    # A quote would end the text that an address stands in.
    call.get_by_label("harbour").fill("o'brien's quay")
    languages = call.get_by_label("Written in").get_by_role("option").all_inner_texts()
    assert len(languages) >= 8
    for language in languages:
        text = program(call, language)
        assert "o%27brien%27s%20quay/berths/4:hold" in text, language
        assert "post" in text.lower() and "x-api-key" in text.lower(), language
    assert page.evaluate("localStorage.getItem('snippets in')") == languages[-1]


def test_a_credential_that_one_has_calls_as_it_may_and_is_kept_nowhere(people: People) -> None:
    page = people.member("Leonor")
    secret = page.evaluate(
        """async () => {
            const [app] = (await (await fetch("api/v1/applications")).json()).filter((a) => a.plans.length);
            const made = await fetch(`api/v1/applications/${app.id}/keys`, {
                method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({label: "own"}),
            });
            return (await made.json()).secret;
        }"""
    )
    call = opened(page, "GET /tides/v2/stations/{id}/heights")
    call.get_by_label("Credential").select_option(label="a key that I have")
    call.get_by_role("button", name="Send the call").click()
    expect(call.get_by_role("alert")).to_have_text("Say the key first.")
    call.get_by_label("The key").fill(f"{secret}x")
    call.get_by_role("button", name="Send the call").click()
    expect(call.get_by_text("This is no key as it stands: its checksum does not fit.")).to_be_visible()
    call.get_by_label("The key").fill(keys.made("key", "live", "nobody's"))
    call.get_by_role("button", name="Send it again").click()
    expect(call.get_by_text('detail: "This key is not known here."')).to_be_visible()
    call.get_by_label("The key").fill(secret)

    def served() -> None:
        call.get_by_role("button", name="Send it again").click()
        expect(call.get_by_role("region", name="The answer").get_by_role("status")).to_contain_text("Answered 200")

    served()
    assert secret not in program(call, "Python") and f"{keys.beginning(secret)}..." in program(call, "Python")
    assert secret not in str(page.evaluate("Object.entries(localStorage)"))


def test_tokens_are_fetched_or_pasted_and_who_may_not_is_told(people: People) -> None:
    page = people.member("Leonor")
    call = opened(page, EXTREMES, "sea-watch")
    call.get_by_label("Application").select_option(label="Skipper app")
    expect(call.get_by_text("is on no plan of Sea Watch yet")).to_be_visible()
    call.get_by_label("Credential").select_option(label="a token, for a secret made for an hour")
    call.get_by_role("button", name="Send the call").click()
    expect(call.get_by_role("alert")).to_have_text("No plan of this application takes tokens of the token endpoint.")

    name = f"Tokens {time.time_ns()}"
    asked(page, name, "sea-watch", "Schooner")
    call = opened(page, "GET /sea/v1/buoys", "sea-watch")
    call.get_by_label("Application").select_option(label=name)
    expect(call.get_by_text("is on no plan")).to_have_count(0)
    call.get_by_label("Credential").select_option(label="a token, for a secret made for an hour")
    status = call.get_by_role("region", name="The answer").get_by_role("status")

    def served(word: str) -> None:
        """Sent until the gateway knows of the plan."""
        send = call.get_by_role("button", name=re.compile("^Send (the call|it again)$"))

        def goes() -> bool:
            send.click()
            expect(send).to_be_enabled()
            return "Answered 200" in status.inner_text()

        wait_for(goes)
        expect(call.get_by_role("region", name="Receipt")).to_contain_text(word)

    served("sandbox")
    # Another secret, which the gateway does not know for a moment: nobody sees that.
    call = opened(page, "GET /sea/v1/buoys", "sea-watch")
    status = call.get_by_role("region", name="The answer").get_by_role("status")
    call.get_by_label("Application").select_option(label=name)
    call.get_by_label("Credential").select_option(label="a token, for a secret made for an hour")
    call.get_by_role("button", name="Send the call").click()
    expect(status).to_contain_text("Answered ")
    assert "Answered 200" in status.inner_text()
    call.get_by_text("the token that was given").click()
    expect(call.get_by_text(re.compile(r"^eyJ[\w-]+\.eyJ"))).to_be_visible()

    call.get_by_label("Credential").select_option(label="a token of an issuer that is trusted here")
    expect(call.get_by_text("Coast identity issues it for the audience larkmouth")).to_be_visible()
    with page.expect_popup() as opens:
        call.get_by_role("link", name="it gives one to anybody").click()
    call.get_by_label("The token").fill(opens.value.locator("body").inner_text())
    served("signed by a trusted issuer")
    ended(page, name)


def ended(page: Page, name: str) -> None:
    """Nobody else finds an application's subscription on its plan: it ends."""
    state = page.evaluate(
        """async (name) => {
            const all = await (await fetch("/portal/api/v1/applications")).json();
            const {subscription_id} = all.find((a) => a.name === name).plans[0];
            const made = await fetch(`/portal/api/v1/subscriptions/${subscription_id}/moves`, {
                method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify({kind: "end"}),
            });
            return (await made.json()).state;
        }""",
        name,
    )
    assert state == "ended"


def asked(page: Page, name: str, slug: str, plan: str) -> None:
    """An application of one's own with a plan of a product that is open to everybody. An organisation has one trial of
    each: whoever takes a plan with one leaves none to other tests."""
    made = page.evaluate(
        """async ([name, slug, plan]) => {
            const ask = async (path, body) => (await fetch(`/portal/api/v1${path}`, body && {
                method: "POST", headers: {"Content-Type": "application/json"}, body: JSON.stringify(body),
            })).json();
            const app = await ask("/applications", {name});
            const product = await ask(`/products/${slug}`);
            return ask("/requests", {
                application_id: app.id, plan_id: product.offers.find((o) => o.name === plan).plan_id,
                purpose: "Tokens tried.", terms_accepted: true,
            });
        }""",
        [name, slug, plan],
    )
    assert made.get("state") == "granted", made


@pytest.mark.parametrize("portal", ["/portal", "/portals/pilots"])
def test_who_has_not_signed_in_sees_the_call_and_what_is_needed(people: People, portal: str) -> None:
    page = people.page()
    page.set_viewport_size({"width": 375, "height": 800})
    page.goto(f"{portal}/products/harbour-data?view=operations&try=yes")
    page.get_by_role("button", name=EXTREMES).click()
    call = page.get_by_role("region", name="A call of it")
    expect(call.get_by_label("The call in Shell")).to_contain_text("Calm-Environment: sandbox")
    ways = call.get_by_label("Credential")
    expect(ways.get_by_role("option")).to_have_text(["no credential, in the sandbox", "a key that I have"])
    ways.select_option("a key that I have")
    expect(call.get_by_label("The call in Shell")).to_contain_text("X-API-Key: YOUR-KEY")
    expect(call.get_by_text("you can have a key made here that lives an hour")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 375
    assert serious(page) == []
    call.get_by_label("At most so many calls").fill("501")
    expect(call.get_by_role("button", name="send until one is refused")).to_be_disabled()


def test_what_comes_back_is_shown_as_what_it_is(people: People) -> None:
    page = people.page()
    pixel = io.BytesIO()
    Image.new("RGB", (1, 1)).save(pixel, "PNG")
    answers = iter(
        [
            {"content_type": "image/png", "body": pixel.getvalue()},
            {"content_type": "text/plain", "body": "a" * 100_001},
            {"content_type": "application/json", "body": '{"list": [], "deep": {"er": {"est": "<b>x</b>"}}}'},
            {"content_type": "application/octet-stream", "body": "01"},
            {"status": 204},
        ]
    )
    origin = {"Access-Control-Allow-Origin": "*", "Access-Control-Expose-Headers": "*", "Retry-After": "7"}
    asked = {**origin, "Access-Control-Allow-Headers": "x-api-key"}

    def answer(route: Route) -> None:
        if route.request.method == "OPTIONS":
            route.fulfill(status=204, headers=asked)
        else:
            route.fulfill(**next(answers), headers=origin)

    page.route("**/tides/v2/**", answer)
    call = opened(page, EXTREMES)
    call.get_by_label("Credential").select_option("a key that I have")
    call.get_by_label("The key").fill("mine")
    shown = call.get_by_role("region", name="The answer")
    send = call.get_by_role("button", name=re.compile("^Send (the call|it again)$"))
    send.click()
    expect(shown.get_by_role("img", name="What was answered")).to_have_js_property("naturalWidth", 1)
    send.click()
    expect(shown.get_by_text("The first 100,000 of 100,001 bytes are shown.")).to_be_visible()
    send.click()
    expect(shown.get_by_text("list: an empty list")).to_be_visible()
    expect(shown.get_by_text('est: "<b>x</b>"')).to_be_visible()
    shown.get_by_role("button", name="as text").click()
    expect(shown.get_by_text('{"list": [], "deep"')).to_be_visible()
    send.click()
    expect(shown.get_by_text("It is application/octet-stream, and not shown here.")).to_be_visible()
    send.click()
    expect(shown.get_by_text("It has no body.")).to_be_visible()
    shown.get_by_text(re.compile(r"^\d+ headers$")).click()
    expect(shown.get_by_role("row", name=re.compile("^retry-after"))).to_contain_text("worth trying again")
