"""The whole product running with demo data, and Chromium to use it with."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Generator, Iterator
from datetime import datetime

import pytest
from playwright.sync_api import Browser, BrowserContext, ConsoleMessage, Page, expect, sync_playwright
from playwright.sync_api import Error as PlaywrightError
from sqlalchemy import func, select

from calm_tariff.core.periods import month_of, period_before, zone
from calm_tariff.demo.load import found, load
from calm_tariff.demo.scenario import PROVIDER
from calm_tariff.edge.processor import processor_of
from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import context_for
from calm_tariff.services.settle.documents import files
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.base.jobs import Job
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.processes import HERE, PATIENCE, Processes, wait_for
from tests.servers import RunDatabase

WAIT_MS = PATIENCE * 1000
expect.set_options(timeout=WAIT_MS)
SIZE = {"width": 1280, "height": 800}
# What a page says while something is on its way: there is nothing to look at yet.
READING = re.compile("^(Adding|Comparing|Counting|Fetching|Laying|Looking|Opening|Reading|Working) .* …$")
ARGUMENTS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]


def last_month() -> str:
    """The first day of the last month that has ended by the demo's clock."""
    today = datetime.now(zone(PROVIDER.time_zone)).date()
    return period_before(month_of(today)).start.isoformat()


@pytest.fixture(scope="package")
def product(database: Database, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Processes]:
    """Everything `./calm demo` starts, on other ports."""
    url = database.make_schema("calm_browser")
    upgrade(url)
    serving = database.let_serve("calm_browser", metadata.tables)
    processes = Processes(tmp_path_factory.mktemp("product"), serving, demo=True)
    ctx = context_for(engine(url), reach=HERE, sealing_secret=processes.settings.value_secret)
    found(ctx)
    processes.start("standins")
    processor = processor_of(processes.settings, hears=False)
    loaded = load(ctx, processes.standins, scale=0.15, processor=processor)
    processes.callers, processes.late_usage = loaded.callers, loaded.late_usage
    for command in ("web", "gateway", "worker"):
        processes.start(command)
    yield processes
    processes.stop()


@pytest.fixture(scope="package")
def chromium() -> Iterator[Browser]:
    """Debian's Chromium, headless."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=ARGUMENTS)
        yield browser
        browser.close()


class People:
    """Browsers of several people at once, each signed in by the page itself."""

    def __init__(self, product: Processes, chromium: Browser) -> None:
        self.product, self.chromium = product, chromium
        self.contexts: list[BrowserContext] = []
        self.errors: list[str] = []
        self.told: list[str] = []

    def page(self) -> Page:
        context = self.chromium.new_context(viewport=SIZE, base_url=self.product.web)
        self.contexts.append(context)
        page = context.new_page()
        page.set_default_timeout(WAIT_MS)
        page.on("pageerror", lambda error: self.errors.append(str(error)))
        page.on("console", self._warned)
        return page

    def staff(self, name: str) -> Page:
        page = self.page()
        page.goto("/")
        page.get_by_role("button", name=name).click()
        page.get_by_role("heading", name="Today").wait_for()
        return page

    def member(self, name: str) -> Page:
        page = self.page()
        page.goto("/portal/sign-in")
        page.get_by_role("button", name=name).click()
        page.get_by_role("heading", name="My applications").wait_for()
        return page

    def _warned(self, said: ConsoleMessage) -> None:
        """A library's word that it is used wrongly; an answer with an error is told as `error`, and may be meant."""
        if said.type == "warning":
            self.errors.append(said.text)
        elif said.type == "error":
            self.told.append(said.text)

    def seen(self) -> str:
        """What each page shows now, and what was told as an error, such as what broke a page."""
        pages = [page for context in self.contexts for page in context.pages]
        shown = [
            f"--- {page.url}\nalerts: {page.get_by_role('alert').all_inner_texts()}\n"
            f"{page.locator('body').inner_text()[:4000]}"
            for page in pages
        ]
        return "\n".join([*shown, f"told as errors: {self.told}"])


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """Say with a story that failed what its people saw last."""
    report = yield
    people = getattr(item, "funcargs", {}).get("people")
    if report.when == "call" and report.failed and people:
        with contextlib.suppress(PlaywrightError):
            report.sections.append(("what the pages showed", people.seen()))
    return report


@pytest.fixture
def people(product: Processes, chromium: Browser) -> Iterator[People]:
    made = People(product, chromium)
    yield made
    for context in made.contexts:
        for page in context.pages:
            page.unroute_all(behavior="ignoreErrors")  # one that is still answering breaks off in nobody's test
        context.close()
    assert made.errors == []


@pytest.fixture
def written(database: RunDatabase, people: People) -> None:
    """No document waits to be written down: those of the demo are many, and each takes its time. Fewer and fewer of
    them are seen to wait."""
    waiting = select(func.count()).where(Job.kind == files.WRITE)
    here = engine(database.url(database.own("calm_browser")))

    def many() -> int:
        with here.connect() as connection:
            return connection.scalar(waiting) or 0

    while left := many():
        wait_for(lambda left=left: many() < left)
