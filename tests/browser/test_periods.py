"""A month before it is invoiced: reckoned for everybody every few minutes, and when somebody asks."""

from __future__ import annotations

import re
from datetime import date, datetime

from playwright.sync_api import APIResponse, Route, expect
from sqlalchemy import Engine, select
from sqlalchemy.orm import Session

from calm_tariff.store.base.connecting import engine
from calm_tariff.store.settle.reckoned_months import ReckonedMonth
from tests.browser.conftest import People
from tests.browser.test_views import serious
from tests.processes import wait_for
from tests.servers import RunDatabase


def reckoned_at(here: Engine, month: date) -> datetime | None:
    with Session(here) as session:
        return session.scalar(select(ReckonedMonth.reckoned_at).where(ReckonedMonth.period_start == month))


def test_the_running_month_says_when_it_was_reckoned_and_is_reckoned_anew(
    people: People, database: RunDatabase
) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/periods")
    page.get_by_role("row").nth(1).get_by_role("link").click()
    said = page.get_by_role("status").filter(has_text=re.compile("was recorded by"))
    expect(said).to_be_visible()
    month = date.fromisoformat(page.url.rpartition("/")[2])
    here = engine(database.url(database.own("calm_browser")))
    for _ in range(2):  # where it was reckoned before, and where it is worked out as it is looked at
        before = reckoned_at(here, month)
        said.get_by_role("button", name="reckon it now").click()
        assert wait_for(lambda before=before: (at := reckoned_at(here, month)) and (before is None or at > before))
    expect(said.get_by_role("button", name="reckon it now")).to_be_visible()  # once the newer one is shown
    expect(page.get_by_role("row").filter(has_text="Together, everybody")).to_contain_text("€")
    assert serious(page) == []


def test_where_nothing_reckons_it_is_said_after_a_while_and_can_be_asked_again(people: People) -> None:
    page = people.staff("Beatriz")
    page.goto("/settle/periods")
    page.get_by_role("row").nth(1).get_by_role("link").click()
    said = page.get_by_role("status").filter(has_text=re.compile("was recorded by"))
    expect(said).to_be_visible()
    answers: dict[str, APIResponse] = {}

    def as_before(route: Route) -> None:
        """Nothing newer comes, whatever the worker does."""
        url = route.request.url
        answers[url] = answers.get(url) or route.fetch()
        route.fulfill(response=answers[url])

    page.route(re.compile("/periods/[^/]+/charges"), as_before)
    page.route(re.compile("/reckoning$"), lambda route: route.fulfill(status=204))
    page.clock.install()
    page.reload()
    for _ in range(2):
        said.get_by_role("button", name="reckon it now").click()
        expect(said).to_contain_text("Reckoning it anew.")
        page.clock.run_for("05:01")
        expect(said).to_contain_text("Nothing has reckoned it yet: reckon it now")
