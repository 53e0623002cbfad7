"""Two people at once, and both sides of a change: what one does in the console, others meet in the portal."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.conftest import People
from tests.processes import wait_for


def change(page: Page, field: str, value: str, nth: int = 0) -> None:
    page.locator(f'button[data-field="{field}"]').nth(nth).click()
    page.locator("main input:focus").fill(value)
    page.keyboard.press("Enter")


def test_two_people_on_one_sheet_see_each_other_and_choose_whose_terms_stand(people: People) -> None:
    ines, other = people.staff("Ines"), people.staff("Ines")
    for page in (ines, other):
        page.goto("/compose/products/1")
        expect(page.get_by_role("heading", name="Harbour Data")).to_be_visible()
    # The other's poll is kept away, so that she works on what she saw.
    other.route("**/api/v1/products/1/sheet", lambda route: route.abort())
    change(ines, "limits.0.calls", "3")
    expect(ines.get_by_text("Skiff revision 2")).to_be_visible()
    change(other, "limits.0.calls", "4")
    expect(other.get_by_text("Somebody else changed this plan meanwhile")).to_be_visible()
    other.get_by_role("button", name="put yours in place").click()
    expect(other.locator('button[data-field="limits.0.calls"]').first).to_have_text("4")
    expect(ines.locator('button[data-field="limits.0.calls"]').first).to_have_text("4")
    ines.get_by_role("button", name="More for the plan Skiff").click()
    ines.get_by_role("menuitem", name="Go back to the live terms").click()
    expect(ines.locator('button[data-field="limits.0.calls"]').first).to_have_text("2")


def test_new_terms_of_use_are_accepted_in_the_portal_and_a_plan_for_a_group_is_seen_by_it_alone(
    people: People,
) -> None:
    member = people.member("Leonor")
    section = member.get_by_role("region", name="New terms of use of Harbour Data")
    expect(section.get_by_text("names the station and the time")).to_be_visible()
    section.get_by_role("button", name="Accept the terms of Harbour Data").click()
    expect(section).to_have_count(0)
    member.get_by_role("link", name="Data and plans").click()
    member.get_by_role("link", name="Compare the plans of Harbour Data").click()
    expect(member.get_by_role("columnheader", name="Schooner")).to_be_visible()
    expect(member.get_by_role("columnheader", name="Pilot boat")).to_have_count(0)
    reviewer = people.staff("Rui")
    reviewer.goto("/admit/groups")
    reviewer.get_by_role("button", name="Harbour pilots").click()
    dialog = reviewer.get_by_role("dialog", name="Harbour pilots")
    dialog.get_by_label("Another consumer").fill("Gannet Ferries")
    expect(dialog.get_by_role("checkbox", name="Gannet Ferries")).to_be_checked()
    dialog.get_by_role("button", name="Save").click()
    expect(reviewer.get_by_role("cell", name=re.compile("^Gannet Ferries, Larkmouth Pilots"))).to_be_visible()
    member.reload()
    expect(member.get_by_role("columnheader", name="Pilot boat")).to_be_visible()


def test_a_sandbox_key_is_made_and_a_version_is_given_an_end(people: People) -> None:
    member = people.member("Marta")
    member.get_by_role("link", name="Beach Clock").click()
    member.get_by_label("It calls").select_option("sandbox")
    member.get_by_role("button", name="Make a key").click()
    secret = member.get_by_test_id("secret").inner_text()
    assert secret.startswith("calmkey-sandbox-")
    address = f"{people.product.gateway}/tides/v2/stations"
    wait_for(lambda: member.request.get(address, headers={"X-API-Key": secret}).status == 200)
    page = people.staff("Ines")
    page.goto("/compose/apis")
    page.get_by_role("link", name="Tides v2").click()
    page.get_by_role("button", name="Announce its end…").click()
    dialog = page.get_by_role("dialog", name="Announce its end")
    expect(dialog.get_by_text(re.compile(r"\d+ consumers may call Tides v2 now: .*Driftline Apps"))).to_be_visible()
    dialog.get_by_label("It answers no more from").fill("2031-05-01")
    dialog.get_by_role("button", name="Announce it").click()
    expect(page.get_by_text("ends on 1 May 2031 · answers under /tides/v2")).to_be_visible()
    told = wait_for(
        lambda: (r := member.request.get(address, headers={"X-API-Key": secret})).headers.get("sunset") and r
    )
    assert told.headers["sunset"] == "Wed, 30 Apr 2031 23:00:00 GMT"
    page.get_by_role("button", name="Call its end off").click()
    expect(page.get_by_text("live · answers under /tides/v2")).to_be_visible()


def test_limits_above_the_plans_are_changed_in_place_and_a_plan_is_withdrawn_with_a_word_about_whom(
    people: People,
) -> None:
    page = people.staff("Ines")
    page.goto("/compose/limits")
    page.get_by_role("button", name="More for Chart Tiles v1").click()
    page.get_by_role("menuitem", name="Add a window").click()
    expect(page.get_by_text("calls in")).to_be_visible()
    change(page, "limits.0.calls", "0", 2)
    expect(page.get_by_role("alert")).to_contain_text("Calls: must be above 0")
    page.get_by_role("button", name="More for Chart Tiles v1").click()
    page.get_by_role("menuitem", name="Take away Window").click()
    expect(page.get_by_text("calls in")).to_have_count(0)
    page.goto("/compose/products/3")
    page.get_by_role("button", name="More for the plan Ketch").click()
    page.get_by_role("menuitem", name="Withdraw…").click()
    dialog = page.get_by_role("dialog", name="Withdraw Ketch")
    expect(dialog.get_by_text("2 subscriptions on it must move")).to_be_visible()
    go = dialog.get_by_role("button", name="Withdraw it, and move 2 subscriptions to Schooner")
    expect(go).to_be_enabled()
    dialog.get_by_role("button", name="Keep it").click()
    expect(dialog).to_have_count(0)
