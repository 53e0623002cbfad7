"""A month from its drafts to its money: usage that came late, charged anew, looked through, put right, issued, read,
paid by a card that fails first, and given back in part once the late calls are struck out."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, expect
from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.periods import month_of, period_before
from calm_tariff.demo.cards import NO_COVER, PAYS
from calm_tariff.store.admit.applications import Application
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.connecting import engine
from tests.browser.conftest import People, last_month
from tests.browser.test_cards import give
from tests.browser.test_correcting import drafted, figure
from tests.browser.test_desk import enter
from tests.browser.test_documents import saved, text
from tests.browser.test_striking_out import log_of
from tests.browser.test_usage_from_elsewhere import bring
from tests.browser.test_views import serious
from tests.processes import wait_for
from tests.servers import RunDatabase

WHOSE = "Stonechat Surf"
LATE = 8000
HEAD = "source,id,time,application,method,path,status,bytes_out"


@pytest.fixture
def due_at_once(people: People) -> Iterator[None]:
    """Invoices are due on the day on which they are issued, for as long as this is looked at."""
    ines = people.staff("Ines")
    _days_to_pay(ines, "0")
    yield
    _days_to_pay(ines, "14")


def _days_to_pay(page: Page, days: str) -> None:
    page.goto("/house/settings")
    page.get_by_label("Days to pay").fill(days)
    page.get_by_role("button", name="Keep these settings").click()
    expect(page.get_by_role("status").get_by_text("Kept.")).to_be_visible()


def late_file(database: RunDatabase, month: date) -> str:
    """Calls of a month that a buoy of theirs counted, and nobody knew of."""
    with Session(engine(database.url(database.own("calm_browser")))) as session:
        whose = select(Application.client_id).join(Consumer, Consumer.id == Application.consumer_id)
        client = session.scalars(whose.where(Consumer.name == WHOSE)).one()
    begin = datetime(month.year, month.month, 10, tzinfo=UTC)
    rows = [
        f"a-buoy,{month:%Y%m}-{n:05d},{begin + timedelta(minutes=n):%Y-%m-%dT%H:%M:%SZ},{client},"
        "GET,/sea/v1/buoys/b-1/latest,200,900"
        for n in range(LATE)
    ]
    return "\n".join([HEAD, *rows])


def how_it_pays(iris: Page, number: str) -> None:
    """Have a card kept at the processor's page."""
    iris.goto("/portal/account")
    how = iris.get_by_role("region", name="How you pay")
    how.get_by_role("button", name=re.compile("Pay by card|Use another card")).click()
    give(iris, number)
    expect(how.get_by_text(f"Sandbank Card ending in {number.replace(' ', '')[-4:]}")).to_be_visible()


def looked_at_until(page: Page, there: Locator) -> None:
    """An invoice's page is opened again until it says so: what is due is tried within a minute."""

    def said() -> bool:
        page.reload()
        expect(page.get_by_role("heading", name=re.compile("^Invoice INV-"))).to_be_visible()
        return there.count() > 0

    assert wait_for(said)


def test_a_month_is_charged_put_right_issued_paid_by_a_card_that_failed_first_and_given_back_in_part(
    people: People, due_at_once: None, written: None, database: RunDatabase, tmp_path: Path
) -> None:
    iris, page = enter(people, "iris@stonechat.example"), people.staff("Beatriz")
    how_it_pays(iris, NO_COVER)

    # What it used of the month before comes late, and is charged with the rest.
    before = period_before(month_of(date.fromisoformat(last_month()))).start
    file = tmp_path / "a-buoy.csv"
    file.write_text(late_file(database, before))
    bring(page, file)
    page.get_by_role("button", name=f"Record {LATE:,} calls").click()
    expect(page.get_by_role("region", name="How it stands")).to_contain_text(f"{LATE:,} calls were recorded.")

    # What is out of the ordinary is said, and what is held back is not issued.
    page.goto(f"/settle/periods/{last_month()}")
    row = page.get_by_role("row").filter(has_text=WHOSE)
    expect(row).to_contain_text("held back by Beatriz: It asks whether its rehearsal")
    expect(row).to_contain_text("more than")
    expect(page.get_by_role("button", name=re.compile("^Issue"))).to_have_count(0)
    drafted(page)
    expect(row).to_contain_text("held back by Beatriz: It asks whether its rehearsal")
    row.get_by_role("button", name="let go").click()
    row.get_by_role("button", name="hold back").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label("Why").fill("Its meter is looked at.")
    assert serious(page) == []
    dialog.get_by_role("button", name="Hold it back").click()
    expect(row).to_contain_text("Its meter is looked at.")
    row.get_by_role("button", name="let go").click()

    # It is put right.
    row.get_by_role("link").first.click()
    expect(page.get_by_role("heading", name=f"Draft for {WHOSE}")).to_be_visible()
    late = page.get_by_role("row").filter(has_text=re.compile(rf"Late for {before:%B %Y}, charged before on INV-"))
    expect(late).to_have_count(1)
    readings = page.get_by_role("row").filter(has=page.get_by_role("cell", name="Sea readings", exact=True))
    charged_late = readings.last.get_by_role("cell").last.inner_text()
    page.get_by_role("button", name="Add a line…").click()
    dialog.get_by_label("What stands on the invoice").fill("The rehearsal of the 19th")
    dialog.get_by_label("Amount before tax").fill("-2.00")
    dialog.get_by_label("Why").fill("It was ours.")
    dialog.get_by_role("button", name="Add the line").click()
    expect(page.get_by_role("button", name="-€2.00")).to_be_visible()
    total = figure(page, "Total")

    # It is issued, and says what was said.
    page.goto(f"/settle/periods/{last_month()}")
    expect(row).to_contain_text("adjusted by a person")
    page.get_by_role("button", name="Issue 1 invoice…").click()
    expect(dialog.get_by_text(f"They go out to {WHOSE}.")).to_be_visible()
    with page.expect_response(re.compile("/periods/.*/issue$")) as begun:
        dialog.get_by_role("button", name="Issue 1 invoice").click()
    run = page.locator(f"[data-run='{begun.value.json()['id']}']")
    expect(run.get_by_text("1 invoice issued, of together")).to_be_visible()
    number = row.get_by_role("link", name=re.compile("^INV-")).inner_text()
    assert serious(page) == []

    # Its consumer reads it, and its card is charged on the day it is due: today.
    iris.goto("/portal/invoices")
    iris.get_by_role("link", name=number, exact=True).click()
    expect(iris.get_by_role("heading", name=f"Invoice {number}")).to_be_visible()
    said = text(saved(iris, "save the PDF"))
    assert number in said and "The rehearsal of the 19th" in said and WHOSE in said
    assert total.lstrip("€") in said
    failed = iris.get_by_text("could not be charged: there is no cover for it")
    looked_at_until(iris, failed)
    expect(failed).to_have_count(1)

    # Another card pays.
    how_it_pays(iris, PAYS)
    iris.goto("/portal/invoices")
    iris.get_by_role("link", name=number, exact=True).click()
    iris.get_by_role("button", name=re.compile(rf"Pay {re.escape(total)} by card")).click()
    expect(iris.get_by_text(re.compile(rf"Sandbank Card ending in 1002 paid {re.escape(total)}"))).to_be_visible()
    page.goto("/settle/payments?show=card")
    tries = page.get_by_role("row").filter(has_text=number)
    expect(tries).to_have_count(2)
    expect(tries.filter(has_text="taken")).to_have_count(1)
    expect(tries.filter(has_text="failed")).to_contain_text("there is no cover for it")

    # The late calls were not its own: struck out, what was charged for them is proposed to be given back, and is.
    log_of(page, WHOSE)
    page.get_by_role("button", name="strike them out…").click()
    dialog = page.get_by_role("dialog", name="Strike calls out")
    dialog.get_by_label("From the day").fill(f"{before:%Y-%m}-10")
    dialog.get_by_label("To the day, included").fill(f"{before:%Y-%m}-16")
    changes = dialog.get_by_role("region", name="What it changes")
    expect(changes).to_contain_text(re.compile(r"proposed as a credit note for INV-\d{4}-\d{5}"))
    dialog.get_by_label("Why").fill("The buoy is a neighbour's.")
    dialog.get_by_role("button", name=re.compile(r"^Strike [\d,]+ calls out$")).click()
    expect(dialog).to_have_count(0)
    page.goto(f"/settle/periods/{before}?show=everybody")
    row.get_by_role("link", name=re.compile("^INV-")).click()
    margin = page.get_by_role("complementary", name="Margin")
    expect(margin).to_contain_text("Less is recorded now")
    margin.get_by_role("button", name="credit the difference…").click()
    dialog = page.get_by_role("dialog", name="Credit what is recorded no more")
    taken = dialog.get_by_role("row").filter(has_text="Sea readings").filter(has_text=number)
    expect(taken).to_contain_text(charged_late)
    dialog.get_by_label("Why").fill("The buoy was a neighbour's.")
    assert serious(page) == []
    dialog.get_by_role("button", name=re.compile(r"^Issue \d credit notes?$")).click()
    expect(dialog).to_have_count(0)
    expect(margin).not_to_contain_text("Less is recorded now")
    iris.goto("/portal/invoices")
    back = iris.get_by_role("row").filter(has_text="The buoy was a neighbour's.").filter(has_text=number)
    back.get_by_role("link", name=re.compile("^CN-")).click()
    expect(iris.get_by_role("heading", name=re.compile("^Credit note CN-"))).to_be_visible()
    expect(iris.get_by_text("The buoy was a neighbour's.")).to_be_visible()
    expect(iris.get_by_role("row").filter(has_text="Sea readings")).to_contain_text(charged_late)
