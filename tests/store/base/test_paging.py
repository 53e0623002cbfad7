"""Lists a page at a time: every row once, in the order asked for, whatever comes and goes meanwhile."""

import csv
import io
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Invalid
from calm_tariff.edge.lists import all_of, as_csv
from calm_tariff.services.admit.portals import serving
from calm_tariff.services.base.context import Context
from calm_tariff.services.observe import consumers
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.paging import Page, PageQuery, listed
from calm_tariff.store.serve.call_writer import record
from tests.office import START, Office
from tests.processes import awaited

# Names that differ, times of which many are alike.
SOME = [(f"Boat {n * 7 % 23:02d}", START - timedelta(days=n % 4)) for n in range(23)]


def walk(ctx: Context, **wanted: object) -> list[str]:
    names, cursor = [], None
    while True:
        page = consumers.listed(ctx, PageQuery(**{"rows": 5, **wanted}, cursor=cursor))
        names += [c.name for c in page.rows]
        assert page.total == len(SOME) + 2  # the office's own
        if page.next is None:
            return names
        assert len(page.rows) == 5
        cursor = page.next


@pytest.fixture
def full(office: Office) -> Office:
    with office.ctx.transaction() as session:
        home = serving.first(session)
        session.add_all(Consumer(name=name, look=name, shape=name, created_at=at, portal=home) for name, at in SOME)
    return office


@pytest.mark.parametrize("down", [False, True])
@pytest.mark.parametrize("sort", ["name", "since", "served", "refused"])
def test_pages_join_to_the_whole_list_in_order(full: Office, sort: str, down: bool) -> None:
    ferries = full.consumers[0]
    calls = [full.call(ferries, START - timedelta(days=n % 40), n) for n in range(120)]
    with full.ctx.transaction() as session:
        refused = [{**c, "verdict": "refused", "units": {}} if n % 3 == 0 else c for n, c in enumerate(calls)]
        record(session, refused, START)
    rows = consumers.listed(full.manager, PageQuery(sort=sort, down=down, rows=1000)).rows
    assert walk(full.manager, sort=sort, down=down) == [c.name for c in rows]
    values = [getattr(c, sort) for c in rows]
    assert {type(c.served) for c in rows} == {int}
    assert values == sorted(values, reverse=down)
    # The line, the page of the one consumer, and the calls themselves say the same.
    ferries_id = full.call(ferries, START, 0)["consumer_id"]
    one = consumers.one(full.manager, ferries_id)
    line = next(c for c in rows if c.id == ferries_id)
    inside = [n for n, c in enumerate(calls) if c["at_us"] >= one.calls_since.timestamp() * 1_000_000]
    assert (line.served, line.refused) == (sum(n % 3 > 0 for n in inside), sum(n % 3 == 0 for n in inside))
    assert (one.line.served, one.line.refused) == (line.served, line.refused)


def test_rows_that_come_and_go_repeat_and_skip_no_others(full: Office) -> None:
    first = consumers.listed(full.manager, PageQuery(rows=10))
    with full.ctx.transaction() as session:
        new = {"created_at": START, "portal": serving.first(session)}
        session.add(Consumer(name="Aardvark Tours", look="a", shape="a", **new))  # before the cursor: not seen again
        session.add(Consumer(name="Boat 15½", look="b", shape="b", **new))  # after it: seen
        session.delete(session.scalar(select(Consumer).where(Consumer.name == "Boat 20")))
    rest = consumers.listed(full.manager, PageQuery(rows=50, cursor=first.next)).rows
    names = [c.name for c in (*first.rows, *rest)]
    assert names == sorted({*(n for n, _ in SOME), "Ferries", "Kayaks", "Boat 15½"} - {"Boat 20"})


def test_what_is_no_page_is_refused_by_name(full: Office) -> None:
    for wanted, field in (
        (PageQuery(sort="colour"), "sort"),
        (PageQuery(cursor="x"), "cursor"),
        (PageQuery(cursor="9" * 12), "cursor"),
        (PageQuery(cursor="٣"), "cursor"),
        (PageQuery(cursor="9" * 30), "cursor"),
    ):
        with pytest.raises(Invalid) as refused:
            consumers.listed(full.manager, wanted)
        assert refused.value.where == field
        if field == "sort" or not wanted.cursor.isdigit() or not wanted.cursor.isascii():
            with pytest.raises(Invalid):
                listed([1], wanted, {"number": lambda n: n})
    # What is looked for is words, not a pattern.
    assert consumers.listed(full.manager, PageQuery("boat 0")).total == 10
    assert consumers.listed(full.manager, PageQuery("boat _")).total == 0
    assert consumers.listed(full.manager, PageQuery("%")).total == 0


def test_worked_out_lists_page_the_same_way() -> None:
    numbers = list(range(40, 0, -1))
    orders = {"number": lambda n: n, "last digit": lambda n: n % 10}
    pages = list(
        all_of(lambda w: listed(numbers, PageQuery(w.words, w.sort, w.down, w.cursor, 7), orders), PageQuery())
    )
    assert pages == sorted(numbers)
    assert listed(numbers, PageQuery("3", "last digit", True, rows=3), orders) == Page([39, 38, 37], "3", 13)


@dataclass(frozen=True)
class Line:
    name: str
    at: datetime | None
    plans: list[str]
    percent: int
    hidden: int = 0


def test_a_file_holds_what_is_shown_and_no_formula() -> None:
    at = datetime(2026, 9, 10, 12, tzinfo=UTC)
    rows = [Line('=HYPERLINK("http://x")', at, ["Skiff", "Ketch"], -4), Line('Gull, "Co"\n', None, [], 0)]
    sent = as_csv("lines", Line, rows, left_out=["hidden"])
    assert sent.headers["content-disposition"] == 'attachment; filename="lines.csv"'

    async def whole() -> str:
        return "".join([part async for part in sent.body_iterator])

    assert list(csv.reader(io.StringIO(awaited(whole())))) == [
        ["name", "at", "plans", "percent"],
        ['\'=HYPERLINK("http://x")', "2026-09-10T12:00:00+00:00", "Skiff; Ketch", "-4"],
        ['Gull, "Co"\n', "", "", "0"],
    ]
