"""Serving in the browser: the bench, a limit of its own, a secret, how back ends are asked, and the gateways."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from datetime import date, timedelta
from pathlib import Path

import httpx
from playwright.sync_api import expect

from calm_tariff.version import version
from tests.browser.conftest import People
from tests.processes import ROOT, wait_for


def test_the_bench_fires_at_a_draft_and_shows_each_call(people: People, tmp_path: Path) -> None:
    page = people.staff("Ines")
    page.goto("/compose/bench")
    page.get_by_label("Plan", exact=True).select_option(label="Harbour Data · Skiff")
    page.get_by_label("Operation").select_option(label="GET /stations/{id}/tides, Tides v1")
    page.get_by_label("Terms").select_option("live")
    for label, value in (("Calls", "20"), ("Calls a second", "20"), ("Keys", "1")):
        page.get_by_label(label, exact=True).fill(value)
    recorded = page.request.get("/api/v1/calls").json()["total"]
    page.get_by_role("button", name="Fire", exact=True).click()
    run = page.get_by_role("region", name="Run 1")
    expect(run.get_by_text("20 of 20 calls", exact=True)).to_be_visible()
    # 5 at once and 2 a second, over the second that 20 calls take, or more on a busy machine.
    told = run.get_by_role("img").get_attribute("aria-label")
    seconds, served = re.fullmatch(r"Calls over ([\d.]+) s: (\d+) served, 0 held, \d+ refused", told).groups()
    assert 6 <= int(served) <= 5 + 2 * (float(seconds) + 0.05) + 1
    expect(page.get_by_text("Refused by Rate", exact=True)).to_be_visible()
    run.get_by_role("button", name="as figures").click()
    run.get_by_role("row").nth(20).get_by_role("button").click()
    expect(page.get_by_text("2 calls a second, up to 5 at once, for each key")).to_be_visible()
    expect(page.get_by_text("Rate was reached.")).to_be_visible()
    expect(page.get_by_text(re.compile("retry-after: 1"))).to_be_visible()
    assert page.request.get("/api/v1/calls").json()["total"] == recorded  # none of it is counted

    # The same case offline comes to the same verdicts.
    page.reload()
    page.get_by_role("button", name="Fire", exact=True).click()
    expect(page.get_by_text("20 of 20 calls", exact=True)).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Save as a case for ./calm decide").click()
    kept = tmp_path / "case.json"
    download.value.save_as(kept)
    command = [sys.executable, "-m", "calm_tariff.cli", "decide", str(kept)]
    decided = json.loads(subprocess.run(command, capture_output=True, text=True, check=True, cwd=ROOT).stdout)
    offline = [v["verdict"] for v in decided["verdicts"]]
    heading = page.get_by_role("region", name="Run 1").get_by_role("heading").inner_text()
    assert f"{offline.count('served')} served" in heading and len(offline) == 20

    page.get_by_role("button", name="or fire a list of calls").click()
    page.get_by_label("One call a line").fill("0 1\nsoon 2\n")
    page.get_by_role("button", name="Fire again").click()
    expect(page.get_by_role("alert")).to_contain_text("must be whole numbers")
    page.get_by_label("One call a line").fill("0 1\n10 1\n20 2\n")
    page.get_by_role("button", name="Fire again").click()
    expect(page.get_by_text("3 of 3 calls")).to_be_visible()
    expect(page.get_by_role("region", name="Run 1")).to_be_visible()  # one above the other
    page.get_by_role("button", name="back to a pattern").click()
    page.get_by_label("Calls", exact=True).fill("400")
    page.get_by_role("button", name="Fire again").click()
    page.get_by_role("button", name="Stop").click()
    expect(page.get_by_role("button", name="Fire again")).to_be_visible()


def test_how_calls_are_served_is_changed_on_the_screens(people: People) -> None:
    product = people.product
    page = people.staff("Ines")
    page.goto("/compose/products")
    page.get_by_role("link", name="Harbour Data").click()
    page.get_by_role("button", name="how callers prove who they are").click()
    page.get_by_label("the application's id and secret, by HTTP Basic").check()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("dialog")).to_have_count(0)
    # A developer makes a secret, and calls with it.
    leonor = people.member("Leonor")
    leonor.get_by_role("link", name="Timetable").click()
    client = leonor.locator("code", has_text="app-").inner_text()
    leonor.get_by_label("Make").select_option("secret")
    leonor.get_by_label("Good until the end of").fill((date.today() + timedelta(days=30)).isoformat())
    leonor.get_by_role("button", name="Make a secret").click()
    secret = leonor.get_by_test_id("secret").inner_text()
    leonor.get_by_role("button", name="I have kept it").click()
    tags, save = leonor.get_by_label("Tags, passed on"), leonor.get_by_role("button", name="Save the tags")
    # The dialog gives the focus back a moment after it is gone, and may take it from what is typed at once.
    wait_for(lambda: tags.fill("region=west") or save.is_enabled())
    save.click()
    expect(leonor.get_by_role("button", name="Save the tags")).to_be_disabled()
    address = f"{product.gateway}/tides/v1/stations/lm-01"
    wait_for(lambda: httpx.get(address, auth=(client, secret)).status_code == 200)

    # Operations put a limit on Gannet's subscription alone; its receipt says so.
    tomas = people.staff("Tomas")
    tomas.goto("/admit/consumers")
    tomas.get_by_role("link", name="Gannet Ferries").click()
    tomas.get_by_role("button", name="override a limit").click()
    which = tomas.get_by_label("Which limit")
    which.select_option(
        label=next(o for o in which.inner_text().split("\n") if o.startswith("Timetable · Rate")).strip()
    )
    tomas.get_by_role("textbox", name="at once").fill("1")
    tomas.get_by_role("textbox", name="Calls").fill("1")
    tomas.get_by_role("textbox", name="in so many seconds").fill("60")
    tomas.get_by_label("Why, for the record").fill("A script ran wild.")
    tomas.get_by_label("Until the end of").fill((date.today() + timedelta(days=2)).isoformat())
    tomas.get_by_role("button", name="Override it for Timetable").click()
    expect(tomas.get_by_text("1 call a minute, up to 1 at once, for each key")).to_be_visible()
    refused = wait_for(lambda: (r := httpx.get(address, auth=(client, secret))).status_code == 429 and r)
    assert refused.json()["limit"] == "Rate"
    tomas.goto("/observe/traffic?verdict=refused")
    # Not one refused before its product took secrets, which may be all that is shipped yet.
    tomas.get_by_role("row").filter(has_text=re.compile("Timetable.*refused by Rate")).first.click()
    expect(tomas.get_by_text("For this subscription alone: 1 call a minute")).to_be_visible()
    expect(tomas.get_by_text("With Rate at 2 at once it would have been let in at once.")).to_be_visible()
    tomas.go_back()
    tomas.goto("/admit/consumers")
    tomas.get_by_role("table").get_by_role("link", name="Gannet Ferries").click()  # also among what was last open
    tomas.get_by_role("button", name="lift it").click()
    wait_for(lambda: httpx.get(address, auth=(client, secret)).status_code == 200)

    # How back ends are asked, what an operation answers, whom tokens are believed from, and how the gateways are.
    page.goto("/compose/apis")
    page.get_by_role("link", name="Tides v2").click()
    page.get_by_role("button", name="change how they are asked").click()
    page.get_by_label("To connect, ms").fill("5")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_have_text("Must be between 10 and 60,000.")
    page.get_by_label("To connect, ms").fill("1500")
    page.get_by_label("Tell the back end who calls").check()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("They have 1,500 ms to connect")).to_be_visible()
    page.goto("/compose/issuers")
    page.get_by_role("button", name="Coast identity").click()
    page.get_by_label("It is trusted now").uncheck()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("not trusted now")).to_be_visible()
    page.goto("/observe/gateways")
    expect(page.get_by_role("row").filter(has_text="gateway-1").first).to_contain_text("the newest")
    processes = page.locator("section", has=page.get_by_role("heading", name="Processes"))
    for name in ("gateway-1", "web", "worker"):
        expect(processes.get_by_role("row").filter(has=page.get_by_role("cell", name=name, exact=True))).to_have_count(
            1
        )
    expect(processes.get_by_text(f"This page comes from version {version()}.")).to_be_visible()
    expect(page.get_by_text("A letter, a ticket or a chore that cannot be done stands here")).to_be_visible()
    expect(page.get_by_text("Nothing. Every process has reported within five seconds.")).to_be_visible()


def test_a_limit_is_counted_by_a_header_in_its_sentence(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/limits")
    page.get_by_role("button", name="consumer, change").first.click()
    page.get_by_label("counted per").select_option(label="value of the header")
    page.get_by_role("button", name="X-Station, change").click()
    page.get_by_label("name of the header").fill("Cookie")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("Cookie holds a secret")
    page.get_by_role("button", name="X-Station, change").click()
    page.get_by_label("name of the header").fill("X-Vessel")
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="X-Vessel, change")).to_be_visible()
    page.reload()
    expect(page.get_by_text("at once, for each value of the header X-Vessel")).to_be_visible()
    # Calls that carry the header are counted by it, and the receipt says so.
    leonor = people.member("Leonor")
    leonor.get_by_role("link", name="Timetable").click()
    leonor.get_by_role("button", name="Make a key").click()
    key = leonor.get_by_test_id("secret").inner_text()
    address = f"{people.product.gateway}/tides/v1/stations/lm-01"
    headers = {"X-API-Key": key, "X-Vessel": "Avocet"}
    before = page.request.get("/api/v1/calls").json()["rows"][0]["call_id"]
    wait_for(lambda: httpx.get(address, headers=headers).status_code == 200)
    newest = lambda: page.request.get("/api/v1/calls?verdict=served").json()["rows"][0]["call_id"]  # noqa: E731
    page.goto(f"/observe/traffic?call={wait_for(lambda: newest() > before and newest())}")
    expect(page.get_by_text("for each value of the header X-Vessel")).to_be_visible()
    page.goto("/compose/limits")
    page.get_by_role("button", name="value of the header, change").click()
    page.get_by_label("counted per").select_option(label="consumer")
    expect(page.get_by_role("button", name="X-Vessel, change")).to_have_count(0)
