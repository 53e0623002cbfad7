"""Composing a tariff in the browser: a document, a meter, a sheet by the keyboard alone, and the tariff as YAML."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import APIResponse, Page, Request, Route, expect

from tests.browser.conftest import WAIT_MS, People
from tests.browser.test_opening import KEEPS_WORDS
from tests.processes import PATIENCE

DOCUMENT = """\
openapi: 3.1.0
info: {title: Moorings, version: "3"}
paths:
  /moorings:
    get: {summary: All moorings, tags: [Moorings], operationId: list}
    post: {summary: A new mooring, tags: [Moorings], operationId: list}
  /moorings/{id}/boats:
    parameters: [{name: id, in: path, required: true, schema: {type: string}}]
    get: {summary: Boats at a mooring, tags: [Boats]}
  /moorings/{id}/bill:
    get: {responses: {"200": {$ref: "https://elsewhere.example/bill.yaml"}}}
"""


def until(page: Page, seen: Callable[[], bool]) -> None:
    """Wait until something has come that is no part of the page."""
    deadline = time.monotonic() + PATIENCE
    while not seen():
        assert time.monotonic() < deadline
        page.wait_for_timeout(20)


def bring_in(page: Page, text: str) -> None:
    page.get_by_label("Or paste its text").fill(text)
    page.get_by_role("button", name="Read it").click()


def test_a_document_is_brought_in_with_its_findings_and_replaced_by_a_newer_one(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/apis")
    page.get_by_role("button", name="Bring in a document").click()
    bring_in(page, DOCUMENT.replace("paths:", "paths: ["))
    expect(page.get_by_text("it cannot be read")).to_be_visible()
    expect(page.get_by_role("cell", name=re.compile("^line 5"))).to_be_visible()
    page.goto("/compose/documents/new")
    bring_in(page, DOCUMENT)
    expect(page.get_by_role("heading", name="2 findings, 1 of them left out")).to_be_visible()
    expect(page.get_by_text("/paths/~1moorings~1{id}~1bill/get/responses/200/$ref")).to_be_visible()
    expect(page.get_by_label("Answers under")).to_have_value("/moorings/v3")
    page.get_by_label("Back-end address", exact=True).fill(f"{people.product.standins}/sea")
    take = page.get_by_role("button", name="Take in 3 operations")
    expect(take).to_be_disabled()
    page.get_by_label("1 part may be left out; take the rest.").check()
    take.click()
    expect(page.get_by_role("heading", name="Moorings v3")).to_be_visible()
    page.get_by_label("Group").select_option("Boats")
    expect(page.get_by_role("button", name="GET /moorings/{id}/boats", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name="GET /moorings", exact=True)).to_have_count(0)
    # A newer document of the Tides removes an operation that is sold and counted.
    page.goto("/compose/apis")
    page.get_by_role("link", name="Tides v1").click()
    page.get_by_role("link", name="Bring in a newer document").click()
    bring_in(page, "openapi: 3.0.0\ninfo: {title: Tides, version: '1'}\npaths: {/stations: {get: {}}, /new: {get: {}}}")
    removed = page.get_by_text("counted by Forecast calls, sold by Harbour Data · Skiff, Harbour Data · Ketch")
    expect(removed.first).to_be_visible()
    expect(page.get_by_role("button", name="Apply it, and take 2 operations from sale")).to_be_visible()
    page.get_by_role("button", name="Put it away").click()
    expect(page.get_by_role("heading", name="APIs", exact=True)).to_be_visible()


def test_a_meter_is_tried_on_history_while_it_is_typed(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/meters/new")
    margin = page.get_by_role("complementary", name="Margin")
    expect(margin.get_by_text("Nobody's calls would have counted.")).to_be_visible()
    page.get_by_label("Name").fill("Tile traffic")
    page.get_by_label("It counts").select_option("bytes_out")
    page.get_by_role("group", name="Chart Tiles v1").get_by_label("Every operation of Tiles").check()
    expect(margin.get_by_text("Ospreyview Drones")).to_be_visible()
    expect(margin.get_by_text(re.compile(r"[\d.,]+ MB")).first).to_be_visible()
    uncounted = margin.get_by_text("Counted by no meter then")
    expect(uncounted).to_be_visible()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Tile traffic")).to_be_visible()
    # A sealed meter says so, cannot be altered, and names whom its pause touches.
    page.goto("/compose/meters/1")
    expect(page.get_by_text("renamed, paused, cloned or archived only")).to_be_visible()
    expect(page.get_by_label("It counts")).to_be_disabled()
    page.get_by_role("button", name="pause…").click()
    dialog = page.get_by_role("dialog", name="Pause Forecast calls")
    expect(dialog.get_by_text("Gannet Ferries, on Harbour Data · Ketch")).to_be_visible()
    dialog.get_by_role("button", name="Leave it").click()


class Keys:
    """Somebody with a keyboard and no pointer."""

    def __init__(self, page: Page) -> None:
        self.page = page
        self.begun = self.done = self.seen = 0
        page.on("request", lambda request: self.count(request, begun=1))
        page.on("requestfinished", lambda request: self.count(request, done=1))

    def count(self, request: Request, begun: int = 0, done: int = 0) -> None:
        if request.method == "PUT" and request.url.endswith("/draft"):
            self.begun, self.done = self.begun + begun, self.done + done

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)

    def to(self, role: str, name: str, nth: int = 0) -> None:
        """Tab forward until the thing has the focus."""
        thing = self.page.get_by_role(role, name=name, exact=True).nth(nth)  # type: ignore[arg-type]
        expect(thing).to_be_visible()
        for _ in range(200):
            if thing.evaluate("e => e === document.activeElement"):
                return
            self.page.keyboard.press("Tab")
        raise AssertionError(f"the keyboard does not reach {role} {name}")

    def saved(self) -> None:
        """Wait until the change just made has been sent, is kept, and is shown."""
        until(self.page, lambda: self.done == self.begun > self.seen)
        self.seen = self.begun
        expect(self.page.get_by_text("Saving …")).to_have_count(0)

    def choose(self, trigger: str, item: str, nth: int = 0) -> None:
        """Open a menu and choose an item by the arrow keys."""
        self.to("button", trigger, nth)
        self.press("Enter")
        wanted = self.page.get_by_role("menuitem", name=item, exact=True)
        expect(wanted).to_be_visible()
        for _ in range(20):
            if wanted.evaluate("e => e === document.activeElement"):
                break
            self.press("ArrowDown")
        self.press("Enter")
        if not item.endswith("…"):  # that opens a dialog
            self.saved()

    def word(self, field: str, value: str, nth: int = 0) -> None:
        """Change a word of a sentence."""
        word = self.page.locator(f'button[data-field="{field}"]').nth(nth)
        for _ in range(200):
            if word.evaluate("e => e === document.activeElement"):
                break
            self.press("Tab")
        self.press("Enter")
        editor = self.page.locator("main input:focus, main select:focus")
        if editor.evaluate("e => e.tagName") == "SELECT":
            self.page.keyboard.type(value)
            self.press("Enter")
        else:
            self.press("Control+a")
            self.page.keyboard.type(value)
            self.press("Enter")
        self.saved()

    def plan(self, name: str) -> None:
        self.to("button", "Add a plan")
        self.press("Enter")
        expect(self.page.get_by_role("dialog", name="A new plan")).to_be_visible()
        self.page.keyboard.type(name)
        self.press("Enter")
        expect(self.page.get_by_role("columnheader", name=re.compile(f"^{name}"))).to_be_visible()


@contextmanager
def read_before(page: Page, address: str) -> Iterator[Callable[[], str]]:
    """What is read before something is done, and answered after it. Gives the words that the page shows from then on,
    until what is read the next time would be shown."""
    held: list[tuple[Route, APIResponse]] = []

    def hold(route: Route) -> None:
        if held:
            route.fallback()
        else:
            held.append((route, route.fetch(timeout=WAIT_MS)))

    page.route(address, hold)
    until(page, lambda: bool(held))  # it is read again and again
    yield lambda: str(page.evaluate("window.words"))
    page.evaluate(KEEPS_WORDS)
    ((route, answer),) = held
    with page.expect_response(address):
        route.fulfill(response=answer)
    with page.expect_response(address):
        pass
    page.unroute(address)


def test_a_sheet_of_three_plans_is_built_by_the_keyboard_alone_published_compared_and_published(
    people: People,
) -> None:
    page = people.staff("Ines")
    page.goto("/compose/products/new")
    page.get_by_label("Name").fill("Pier Watch")
    page.get_by_label("Terms of use").fill("Name the **source**.")
    page.get_by_role("group", name="Sea State v1").get_by_label("Every operation of Measurements").check()
    page.get_by_role("button", name="Make it").click()
    expect(page.get_by_role("heading", name="Pier Watch")).to_be_visible()
    keys = Keys(page)
    for name in ("Dory", "Cutter", "Clipper"):
        keys.plan(name)
    keys.choose("More for Rate", "Add a rate", 0)
    keys.choose("More for Rate", "Copy to every plan", 0)
    expect(page.locator('button[data-field="limits.0.calls"]')).to_have_count(3)
    keys.choose("More for Sea readings", "Add an allowance", 0)
    keys.choose("More for Sea readings", "Copy to Cutter", 0)
    keys.word("limits.1.units", "50,000", 1)
    keys.choose("More for Fee", "Add a fee", 1)
    keys.word("pricing.prices.0.amount", "20")
    keys.choose("More for Sea readings", "Sell units", 4)
    keys.choose("More for Sea readings", "All at the price of the step reached", 4)
    keys.choose("More for Sea readings", "Edit the steps…", 4)
    keys.to("button", "split")
    keys.press("Enter")
    keys.to("textbox", "Step 1 up to")
    keys.press("Control+a")
    page.keyboard.type("1000")
    keys.to("textbox", "Step 2 each")
    keys.press("Control+a")
    page.keyboard.type("0.0005")
    keys.to("button", "Keep these steps")
    keys.press("Enter")
    keys.saved()
    expect(page.get_by_text("for all of them €0.0010 each to 1,000; €0.0005 each after that")).to_be_visible()
    # The margin names the two mistakes: one unit more costs less, and a rate no allowance needs.
    margin = page.get_by_role("complementary", name="Margin")
    expect(margin.get_by_text("Cutter: 1,000 sea readings cost €1.00, one more only €0.50 in total.")).to_be_visible()
    keys.word("limits.0.per_seconds", "day")
    expect(margin.get_by_text(re.compile("Dory can make at most 155 calls a month"))).to_be_visible()
    keys.press("Control+z")
    keys.saved()
    expect(margin.get_by_text(re.compile("Dory can make at most"))).to_have_count(0)
    keys.choose("More for Sea readings", "In steps, each with its own price", 4)
    expect(margin.get_by_text(re.compile("one more only"))).to_have_count(0)
    keys.to("button", "Publish…")
    keys.press("Enter")
    keys.to("button", "Publish 3 revisions")
    keys.press("Enter")
    expect(page.get_by_text("As published; a change starts a draft.")).to_be_visible()
    # Draft against live, in words, and published for the next period.
    keys.word("pricing.prices.0.amount", "25")
    keys.to("button", "Publish…")
    keys.press("Enter")
    dialog = page.get_by_role("dialog", name="Publish Cutter, revision 2")
    expect(dialog.get_by_text(re.compile("Cutter, fee: €20 a month → €25 a month"))).to_be_visible()
    with read_before(page, "**/sheet") as words:
        keys.to("button", "Publish 1 revision")
        keys.press("Enter")
        expect(page.get_by_text("As published; a change starts a draft.")).to_be_visible()
    assert "Draft of Cutter" not in words()  # which that answer says there is
    page.get_by_role("button", name="More for the plan Cutter").click()
    page.get_by_role("menuitem", name="Published revisions").click()
    expect(page.get_by_role("heading", name="Pier Watch · Cutter, revision 2")).to_be_visible()
    expect(page.get_by_text("Fee: €20 a month → €25 a month")).to_be_visible()
    page.get_by_role("link", name="the tariff sheet").click()
    page.get_by_role("button", name="More for the plan Cutter").click()
    page.get_by_role("menuitem", name="What a caller gets").click()
    expect(page.get_by_text("every API").first).to_be_visible()


def test_a_change_for_those_on_a_plan_moves_them_at_their_next_period(people: People) -> None:
    page = people.staff("Ines")
    page.goto("/compose/products/2")
    word = page.locator('button[data-field="pricing.prices.0.amount"]').last
    word.click()
    page.locator("main input:focus").fill("99")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Draft of Schooner revision 2")).to_be_visible()
    page.get_by_role("button", name="Publish…").click()
    dialog = page.get_by_role("dialog", name="Publish Schooner, revision 2")
    expect(dialog.get_by_text("The 1 subscription already on it")).to_be_visible()
    expect(dialog.get_by_label("move at the start of their next period")).to_be_checked()
    dialog.get_by_label("move on a day, and are told").check()
    expect(dialog.get_by_role("button", name="Publish 1 revision")).to_be_disabled()
    dialog.get_by_label("move at the start of their next period").check()
    dialog.get_by_role("button", name="Publish 1 revision").click()
    expect(page.get_by_text("As published; a change starts a draft.")).to_be_visible()


def test_the_tariff_goes_out_as_yaml_and_comes_back_changed(people: People, tmp_path: Path) -> None:
    page = people.staff("Ines")
    page.goto("/compose/tariff")
    with page.expect_download() as download:
        page.get_by_role("link", name="Save tariff.yaml").click()
    path = tmp_path / "tariff.yaml"
    download.value.save_as(path)
    page.get_by_label("From a file").set_input_files(path)
    page.get_by_role("button", name="Compare it").click()
    expect(page.get_by_role("heading", name="No difference")).to_be_visible()
    text = path.read_text()
    assert text.count("discount_percent: '5'") == 1
    page.get_by_label("Or paste it").fill(text.replace("discount_percent: '5'", "discount_percent: '8'"))
    page.get_by_role("button", name="Compare it").click()
    expect(
        page.get_by_role("row", name=re.compile("Chart Tiles · Schooner Discount: 5% off fee and usage → 8% off"))
    ).to_be_visible()
    page.get_by_role("button", name="Apply 1 difference").click()
    expect(page.get_by_text("As drafts still: Chart Tiles · Schooner.")).to_be_visible()
    page.goto("/compose/products/3")
    expect(page.get_by_text("Schooner revision 2")).to_be_visible()
    page.goto("/compose/tariff")
    page.get_by_label("Or paste it").fill(text.replace("amount: '45'", "amonut: '45'"))
    page.get_by_role("button", name="Compare it").click()
    expect(page.get_by_role("alert")).to_contain_text("is not a field here")
