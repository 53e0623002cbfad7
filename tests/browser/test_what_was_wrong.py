"""What an audit found wrong on the screens, and must not be so again."""

from __future__ import annotations

import re
from pathlib import Path

from playwright.sync_api import Route, expect

from tests.browser.conftest import WAIT_MS, People
from tests.browser.test_together import change

WEB = Path(__file__).parents[2] / "web" / "src"


def test_undoing_takes_back_nothing_that_somebody_else_has_typed_since(people: People) -> None:
    ines, other = people.staff("Ines"), people.staff("Ines")
    for page in (ines, other):
        page.goto("/compose/products/1")
        expect(page.get_by_role("heading", name="Harbour Data")).to_be_visible()
    of_ines, of_other = (page.locator('button[data-field="limits.0.calls"]').first for page in (ines, other))
    change(ines, "limits.0.calls", "3")
    expect(of_other).to_have_text("3")
    change(other, "limits.0.calls", "7")
    expect(of_ines).to_have_text("7")  # she sees it, and takes back what she did herself
    ines.keyboard.press("Control+z")
    expect(ines.get_by_text("Somebody else changed this plan meanwhile")).to_be_visible()
    other.reload()
    expect(of_other).to_have_text("7")
    other.get_by_role("button", name="More for the plan Skiff").click()
    other.get_by_role("menuitem", name="Go back to the live terms").click()
    expect(of_other).to_have_text("2")


def test_a_month_met_again_shows_what_was_read_before(people: People) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/periods")
    month = page.get_by_role("table").get_by_role("link").first
    name = month.inner_text()
    month.click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()
    row = page.get_by_role("table").get_by_role("row").nth(1)
    expect(row).to_be_visible()
    page.get_by_role("link", name="Periods").click()
    expect(page.get_by_role("heading", name="Periods")).to_be_visible()
    asked: list[str] = []
    page.route(re.compile(r"/api/v1/periods/\d"), lambda route: asked.append(route.request.url))  # never answered
    page.get_by_role("table").get_by_role("link", name=name).click()
    expect(row).to_be_visible()
    assert page.get_by_text("Working out the charges").count() == 0


def test_changing_an_api_is_seen_on_the_list_at_once(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/apis")
    page.get_by_role("link", name="Chart Tiles v1").click()
    page.get_by_role("button", name="Announce its end…").click()
    dialog = page.get_by_role("dialog", name="Announce its end")
    dialog.get_by_label("It answers no more from").fill("2031-05-01")
    dialog.get_by_role("button", name="Announce it").click()
    expect(page.get_by_role("button", name="Call its end off")).to_be_visible()
    page.get_by_role("button", name="Call its end off").click()
    expect(page.get_by_text("live · answers under")).to_be_visible()
    page.get_by_role("link", name="APIs").click()
    expect(page.get_by_role("heading", name="APIs")).to_be_visible()
    expect(page.get_by_role("row", name=re.compile(r"^Chart Tiles v1 live"))).to_be_visible()


def test_a_form_is_sent_once_nothing_in_it_moves_any_more(people: People) -> None:
    """What is read late stood above its button, and moved it away from under the pointer."""
    page = people.staff("Ines")
    held: list[Route] = []
    let_go: list[bool] = []
    operations = re.compile(r"/api/v1/apis/\d+/operations")
    page.route(operations, lambda route: route.continue_() if let_go else held.append(route))
    page.goto("/compose/products")
    page.get_by_role("link", name="Chart Tiles").first.click()
    page.get_by_role("button", name="product and terms of use").click()
    dialog = page.get_by_role("dialog", name="Chart Tiles")
    save = dialog.get_by_role("button", name="Save")
    expect(dialog.get_by_text("Reading the operations")).to_be_visible()
    expect(save).to_be_disabled()
    let_go.append(True)
    for route in held:
        route.continue_()
    expect(dialog.get_by_role("group", name="Chart Tiles v1")).to_be_visible()
    expect(save).to_be_enabled()


def test_what_a_change_makes_stale_is_what_something_reads() -> None:
    """A path that nothing reads, or a key of one's own, leaves a screen as it was."""
    asked, stale = set(), set()
    for path in (*WEB.rglob("*.tsx"), *WEB.rglob("*.ts")):
        text = path.read_text(encoding="utf-8")
        if path.parent.name != "queries":
            assert not re.search(r"(invalidate|refetch|reset)Queries\(|queryKey: \[\s*[\"`]", text), path.name
        declared, _, changes = text.partition("const STALE")
        if path.parent.name == "queries":
            asked |= set(re.findall(r"ask\(\s*\"([^\"]+)\"|queryKey: \[\"([^\"]+)\"", declared))
            stale |= set(re.findall(r"\"(/[^\"]*)\"", changes))
        asked |= {(list_of, "") for list_of in re.findall(r"useList\(\s*\"([^\"]+)\"", text)}
    assert len(stale) > 20
    assert stale - {path for pair in asked for path in pair} == set()


def test_a_first_call_is_made_as_its_operation_is_called(people: People) -> None:
    page = people.page()

    def only_posts(route: Route) -> None:
        answer = route.fetch(timeout=WAIT_MS)
        one = answer.json()
        body = {"media_type": "application/json", "schema": None, "example": None, "sample": '{"until": "noon"}'}
        held = {
            **one,
            "line": {**one["line"], "method": "POST", "url_path": "/berths/v1/holds/{id}"},
            "described": {**one["described"], "bodies": [body]},
            "key_header": "X-Harbour-Key",
            "tried_by_anyone": False,
        }
        route.fulfill(response=answer, json=held)

    page.route("**/portal/api/v1/products/harbour-data/operations/*", only_posts)
    page.goto("/portal/products/harbour-data?view=operations")
    page.get_by_role("button", name="GET /tides/v2/stations/{id}/extremes").click()
    call = page.get_by_label("The call in Shell", exact=True)
    expect(call).to_contain_text("--request POST")
    expect(call).to_contain_text("/berths/v1/holds/lm-03")
    expect(call).to_contain_text("X-Harbour-Key: YOUR-KEY")
    expect(call).to_contain_text(re.compile("content-type: application/json", re.IGNORECASE))
    expect(call).to_contain_text('"until": "noon"')


def test_asking_for_a_plan_begins_with_the_first_field(people: People) -> None:
    page = people.member("Leonor")
    page.goto("/portal/products/harbour-data")
    page.get_by_role("button", name="Choose Schooner").click()
    expect(page.get_by_role("dialog").get_by_label("For the application")).to_be_focused()


def test_a_keys_last_day_is_the_providers_wherever_its_reader_is(people: People) -> None:
    page = people.member("Henrique")
    far = people.chromium.new_context(
        base_url=people.product.web, timezone_id="Pacific/Auckland", storage_state=page.context.storage_state()
    )
    people.contexts.append(far)
    page = far.new_page()
    page.goto("/portal/applications")
    page.locator("main a[href*='/applications/']").first.click()
    page.get_by_label("Label of a new key").fill("far away")
    page.get_by_label("Good from").fill("2031-04-01")
    page.get_by_label("Good until the end of").fill("2031-05-01")
    page.get_by_role("button", name="Make a key").click()
    page.get_by_role("button", name="I have kept it").click()
    made = page.get_by_role("row").filter(has_text="far away")
    expect(made).to_contain_text("from 1 April 2031")
    expect(made).to_contain_text("the end of 1 May 2031")


def test_two_allowances_of_one_application_are_told_apart(people: People) -> None:
    rui, leonor = people.staff("Rui"), people.member("Leonor")
    rui.goto("/admit/consumers/1")
    leonor.goto("/portal/usage")
    for page in (rui, leonor):
        for name in ("Forecast calls", "Berth lookups"):
            gauge = page.get_by_text(re.compile(rf"Timetable on Harbour Data · Ketch, {name}: [\d,]+ a month"))
            expect(gauge).to_be_visible()
