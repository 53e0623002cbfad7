"""Who hears what happens, in the browser: an endpoint that fails, recovers and gets each event once in order; a room
that is told in a line; and a secret that is changed."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

import httpx
from playwright.sync_api import Locator, Page, expect
from standardwebhooks import Webhook

from calm_tariff.core.errors import NotSignedIn
from calm_tariff.services.base import webhooks
from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import PATIENCE, Processes

LABELS = ("tide export", "berth export", "sea export")


def choose(dialog: Locator, topic: str, *types: str) -> None:
    """Hear of some events of a topic alone."""
    dialog.get_by_label("everything that happens").uncheck()
    dialog.get_by_role("button", name=f"single ones of {topic}").click()
    for one in types:
        dialog.get_by_label(one, exact=True).check()


@contextmanager
def gone_afterwards(page: Page, name: str) -> Iterator[None]:
    """The endpoint is taken away at the end, whatever happened."""
    try:
        yield
    finally:
        for endpoint in page.request.get("/api/v1/endpoints").json():
            if endpoint["name"] == name:
                assert page.request.delete(f"/api/v1/endpoints/{endpoint['id']}").ok


def listens(product: Processes, status: int) -> None:
    assert httpx.put(f"{product.standins}/listener/mood", json={"status": status}, timeout=PATIENCE).is_success


def heard(product: Processes, wanted: int) -> list[dict[str, Any]]:
    """What the listener has taken, once there is so much."""
    until = time.monotonic() + PATIENCE
    while True:
        got = [one for one in httpx.get(f"{product.standins}/listener.json", timeout=PATIENCE).json() if told_of(one)]
        if len([one for one in got if one["taken"]]) >= wanted or time.monotonic() > until:
            return got
        time.sleep(0.2)


def told_of(one: dict[str, Any]) -> str:
    """The label of the token that a webhook tells was made, if it does."""
    body = json.loads(one["body"])
    return str(body["data"]["subject"]["name"]) if body["type"] == "service_token.made" else ""


def tokens(page: Page, *labels: str) -> None:
    """Something happens: service tokens are made, and revoked again."""
    for label in labels:
        assert page.request.post("/api/v1/service-tokens", data={"label": label}).ok
    for token in page.request.get("/api/v1/service-tokens").json():
        if token["label"] in labels:
            assert page.request.delete(f"/api/v1/service-tokens/{token['id']}").ok


def test_an_endpoint_that_fails_and_recovers_gets_each_event_once_and_in_order(people: People) -> None:
    tomas, product = people.staff("Tomas"), people.product
    with gone_afterwards(tomas, "Watch"):
        tomas.goto("/house/people")
        tomas.get_by_role("link", name="Hooks").click()
        tomas.get_by_role("button", name="Make an endpoint").click()
        dialog = tomas.get_by_role("dialog", name="Make an endpoint")
        dialog.get_by_label("Its name").fill("Watch")
        dialog.get_by_label("Its address").fill("ftp://ledger.example")
        choose(dialog, "service token", "made")
        assert serious(tomas) == []
        dialog.get_by_role("button", name="Make it").click()
        expect(dialog.get_by_role("alert")).to_contain_text("Must be an http or https address")
        dialog.get_by_label("Its address").fill(f"{product.standins}/listener")
        dialog.get_by_role("button", name="Make it").click()
        made = tomas.get_by_role("dialog", name="Watch")
        secret = made.get_by_test_id("secret").inner_text()
        made.get_by_role("button", name="I have kept it").click()

        listens(product, 503)
        tokens(tomas, *LABELS)
        tomas.get_by_role("link", name="Watch").click()
        stands = tomas.get_by_role("region", name="How it stands")
        expect(stands).to_contain_text(re.compile("3 wait, tried (once|[0-9]+ times)"))
        expect(stands).to_contain_text("Last: answered 503")
        expect(stands).to_contain_text("service_token.made")
        assert serious(tomas) == []

        listens(product, 204)
        stands.get_by_role("button", name="Try it now").click()
        expect(stands).to_contain_text("Told all, last")
        taken = [one for one in heard(product, 3) if one["taken"]]
        assert [told_of(one) for one in taken] == list(LABELS)
        refused = {one["fields"]["webhook-id"] for one in heard(product, 3) if not one["taken"]}
        assert refused == {taken[0]["fields"]["webhook-id"]}
        for one in taken:
            assert Webhook(secret).verify(one["body"], one["fields"])["type"] == "service_token.made"

        rows = tomas.get_by_role("row").filter(has_text="service_token.made")
        rows.filter(has_text="200, taken").first.get_by_role("button").click()
        tomas.get_by_role("button", name="send it again").click()
        expect(tomas.get_by_text("It is on its way.")).to_be_visible()
        expect(tomas.get_by_role("row").filter(has_text="sent again")).to_contain_text("200, taken")
        again = [one for one in heard(product, 4) if one["taken"]]
        assert again[-1]["fields"]["webhook-id"] == again[2]["fields"]["webhook-id"]

        tomas.get_by_label("only what was not taken").check()
        expect(rows.filter(has_text="200, taken")).to_have_count(0)
        expect(rows.first).to_contain_text("503, not taken")


def test_an_event_nobody_can_take_is_passed_over_and_the_rest_comes(people: People) -> None:
    tomas, product = people.staff("Tomas"), people.product
    with gone_afterwards(tomas, "Narrow"):
        typed = {"name": "Narrow", "url": f"{product.standins}/listener", "wants": ["service_token.made"]}
        made = tomas.request.post("/api/v1/endpoints", data=typed).json()["endpoint"]
        before = len([one for one in heard(product, 0) if one["taken"]])
        listens(product, 422)
        tokens(tomas, "cannot be read", "can be read")
        tomas.goto(f"/house/hooks/{made['id']}")
        tomas.get_by_role("button", name="Pass that event over…").click()
        dialog = tomas.get_by_role("dialog", name="Pass an event over")
        expect(dialog).to_contain_text("Narrow will not hear that")
        dialog.get_by_role("button", name="Pass it over").click()
        expect(tomas.get_by_role("row").filter(has_text="passed over")).to_have_count(1)
        listens(product, 204)  # no sooner: what is tried again meanwhile would be taken
        expect(tomas.get_by_role("region", name="How it stands")).to_contain_text("Told all")
        taken = [one for one in heard(product, before + 1) if one["taken"]][before:]
        assert [told_of(one) for one in taken] == ["can be read"]


def test_a_room_is_told_in_a_line_and_an_endpoint_gets_another_secret_and_is_turned_off(people: People) -> None:
    tomas, product = people.staff("Tomas"), people.product
    with gone_afterwards(tomas, "Lookout"), gone_afterwards(tomas, "Books"):
        tomas.goto("/house/hooks")
        tomas.get_by_role("button", name="Make an endpoint").click()
        dialog = tomas.get_by_role("dialog", name="Make an endpoint")
        dialog.get_by_label("Its name").fill("Lookout")
        dialog.get_by_label("to a chat room").check()
        dialog.get_by_label("Its address").fill(f"{product.standins}/chat/rooms/lookout-7h2")
        choose(dialog, "service token", "made")
        dialog.get_by_role("button", name="Make it").click()
        tomas.get_by_role("dialog", name="Lookout").get_by_role("button", name="Good").click()
        expect(tomas.get_by_role("row").filter(has_text="Lookout")).to_contain_text("service token: made")
        assert "lookout-7h2" not in tomas.content()
        tokens(tomas, "<b>bold</b>")
        room = people.page()
        until = time.monotonic() + PATIENCE
        while time.monotonic() < until:
            room.goto(f"{product.standins}/chat/rooms/lookout-7h2")
            if room.get_by_text("<b>bold</b>").count():
                break
        expect(room.get_by_text("Tomas made a service token: <b>bold</b>.")).to_be_visible()

        typed = {"name": "Books", "url": f"{product.standins}/listener", "wants": ["group.*"]}
        first = tomas.request.post("/api/v1/endpoints", data=typed).json()
        tomas.goto(f"/house/hooks/{first['endpoint']['id']}")
        tomas.get_by_role("button", name="another secret…").click()
        dialog = tomas.get_by_role("dialog", name="Another secret for Books")
        dialog.get_by_role("button", name="Make another secret").click()
        second = dialog.get_by_test_id("secret").inner_text()
        dialog.get_by_role("button", name="I have kept it").click()
        expect(tomas.get_by_text("signed with the former secret as well until")).to_be_visible()
        tomas.get_by_role("button", name="send a test").click()
        expect(tomas.get_by_role("row").filter(has_text="endpoint.tested")).to_contain_text("taken")
        got = httpx.get(f"{product.standins}/listener.json", timeout=PATIENCE).json()
        (test,) = (one for one in got if json.loads(one["body"])["type"] == "endpoint.tested")
        assert {first["secret"], second} == {s for s in (first["secret"], second) if signed(s, test)}

        tomas.get_by_role("button", name="turn it off").click()
        expect(tomas.get_by_role("region", name="How it stands")).to_have_text(re.compile(r"^Off\."))
        tomas.get_by_role("button", name="take it away…").click()
        tomas.get_by_role("dialog", name="Take Books away").get_by_role("button", name="Take it away").click()
        expect(tomas.get_by_role("heading", name="Hooks")).to_be_visible()
        expect(tomas.get_by_role("link", name="Books")).to_have_count(0)
        rui = people.staff("Rui")
        rui.goto("/house/hooks")
        expect(rui.get_by_text("Operations and owners of the house change them.")).to_be_visible()
        expect(rui.get_by_role("button", name="Make an endpoint")).to_have_count(0)


def signed(secret: str, one: dict[str, Any]) -> bool:
    """Whether one who knows that secret alone takes it for ours."""
    at = datetime.fromtimestamp(int(one["fields"]["webhook-timestamp"]), UTC)
    try:
        webhooks.verified(secret, str(one["body"]).encode(), one["fields"], at)
    except NotSignedIn:
        return False
    return True
