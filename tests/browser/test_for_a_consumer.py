"""What the provider's people do for a consumer on its page: an application, a plan, a key, and the end of the key."""

from __future__ import annotations

import time

import httpx
from playwright.sync_api import expect

from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import PATIENCE


def answers(people: People, key: str, wanted: int) -> httpx.Response:
    """What a call with a key is answered, once it is answered so."""
    until = time.monotonic() + PATIENCE
    while True:
        url = f"{people.product.gateway}/tides/v1/stations"
        answer = httpx.get(url, headers={"Authorization": f"Bearer {key}"}, timeout=PATIENCE)
        if answer.status_code == wanted or time.monotonic() > until:
            return answer
        time.sleep(0.1)


def test_an_application_gets_a_plan_and_a_key_which_is_revoked_with_a_reason(people: People) -> None:
    ines = people.staff("Ines")
    ines.goto("/admit/consumers?words=Anchorhold")
    ines.get_by_role("link", name="Anchorhold Storage").click()
    ines.get_by_role("button", name="register an application…").click()
    register = ines.get_by_role("dialog", name="Register an application of Anchorhold Storage")
    register.get_by_label("Its name").fill("Quay screen")
    register.get_by_label("What it is for").fill("Shows the tide to the crane's driver.")
    register.get_by_role("button", name="Register it").click()
    ines.get_by_role("button", name="add a plan… for Quay screen").click()
    add = ines.get_by_role("dialog", name="Add a plan for Quay screen")
    add.get_by_label("Product").select_option(label="Harbour Data")
    add.get_by_role("combobox", name="Plan").select_option(label="Skiff")
    assert serious(ines) == []
    add.get_by_role("button", name="Subscribe it").click()
    done = ines.get_by_role("dialog", name="Quay screen")
    expect(done).to_contain_text("It may now call Harbour Data · Skiff.")
    done.get_by_role("button", name="Good").click()

    ines.get_by_role("button", name="make a key… for Quay screen").click()
    make = ines.get_by_role("dialog", name="Make a key for Quay screen")
    make.get_by_label("Its label").fill("crane")
    make.get_by_role("button", name="Make it").click()
    hand = ines.get_by_role("dialog", name="Hand it over now")
    key = hand.get_by_test_id("secret").inner_text()
    hand.get_by_role("button", name="I have handed it over").click()
    assert answers(people, key, 200).status_code == 200

    ines.get_by_role("button", name="revoke crane… of Quay screen").click()
    revoke = ines.get_by_role("dialog", name="Revoke crane of Quay screen")
    assert serious(ines) == []
    revoke.get_by_label("Why, for its members").fill("It stood on a photograph.")
    revoke.get_by_role("button", name="Revoke it at once").click()
    expect(revoke).to_have_count(0)  # while it is there, nothing behind it has a role
    expect(ines.get_by_role("button", name="revoke crane… of Quay screen")).to_have_count(0)
    assert answers(people, key, 401).status_code == 401
    got = httpx.get(f"{people.product.standins}/mailbox.json", timeout=PATIENCE).json()
    until = time.monotonic() + PATIENCE
    while not any("It stood on a photograph." in one["body"] for one in got) and time.monotonic() < until:
        got = httpx.get(f"{people.product.standins}/mailbox.json", timeout=PATIENCE).json()
    assert any("crane" in one["body"] and "It stood on a photograph." in one["body"] for one in got)
    beatriz = people.staff("Beatriz")
    beatriz.goto(ines.url)
    expect(beatriz.get_by_text("Quay screen", exact=True)).to_be_visible()
    expect(beatriz.get_by_role("button", name="make a key…")).to_have_count(0)
