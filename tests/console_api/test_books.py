"""The books and the journal over HTTP, as a script proves and saves them."""

from __future__ import annotations

import csv
import hashlib
import io
from decimal import Decimal

import pytest
from sqlalchemy import text
from starlette.testclient import TestClient

from calm_tariff.core.periods import instant_of
from calm_tariff.services.settle.books import audits
from tests.console_api.test_consumer_data import script
from tests.office import START, Office
from tests.services.months import LATER, issued, record
from tests.services.settle.accounts.owing import at, pay

HERE = "/api/v1"


@pytest.fixture
def finance(office: Office) -> TestClient:
    """In November, when October is over: September was charged, and Ferries paid part of it."""
    record(office, 30)
    office.clock.now = LATER
    issued(office)
    pay(office, "10.00")
    at(office, 2026, 11, 2)
    return script(office, "finance")


def look_through(office: Office, finance: TestClient) -> dict[str, object]:
    begun = finance.post(f"{HERE}/books/audits")
    assert begun.status_code == 202, begun.text
    going = begun.json()["going"]
    assert (going["state"], going["done"], going["planned"]) == ("running", 0, 9)
    again = finance.post(f"{HERE}/books/audits")
    said = again.json()
    assert (again.status_code, said["where"], said["detail"]) == (409, "the books", "are being looked through already")
    assert audits.go_on(office.ctx, going["id"])
    stopped = finance.post(f"{HERE}/books/audits/{going['id']}/stop")
    assert stopped.status_code == 409
    return finance.get(f"{HERE}/books").json()


def test_a_script_has_the_books_looked_through_and_reads_what_differs(office: Office, finance: TestClient) -> None:
    assert finance.get(f"{HERE}/books").json()["last"] is None
    whole = look_through(office, finance)
    assert (whole["differences"], whole["going"]) == (0, None)
    units = finance.get(f"{HERE}/books/2026-09-01/units").json()
    assert [(r["consumer"], r["recorded"], r["charged"]) for r in units["rows"]] == [
        ("Ferries", "30.000000", "30.000000")
    ]
    saved = list(csv.DictReader(io.StringIO(finance.get(f"{HERE}/books/2026-09-01/units.csv").text)))
    assert [(r["consumer"], r["recorded"], r["agrees"]) for r in saved] == [("Ferries", "30.000000", "True")]
    assert finance.get(f"{HERE}/books/2026-09-02/units").status_code == 422

    with office.ctx.transaction() as session:
        session.execute(text("DELETE FROM `call` ORDER BY at_us DESC LIMIT 1"))
    assert look_through(office, finance)["differences"] == 4
    found = finance.get(f"{HERE}/books/differences?words=units").json()
    assert found["total"] == 2
    first = found["rows"][0]
    assert {s["table"]: Decimal(s["amount"]) for s in first["sums"]} == {"calls": 29, "hours": 30, "days": 30}
    (hour,) = first["came_of"]
    assert (hour["since_us"], hour["until_us"]) == (instant_of(START), instant_of(START) + 3_600_000_000)
    rows = list(csv.DictReader(io.StringIO(finance.get(f"{HERE}/books/differences.csv").text)))
    assert {r["check"] for r in rows} == {"calls", "units", "charges"}


def test_a_script_saves_a_month_of_the_journal_and_closes_it(office: Office, finance: TestClient) -> None:
    (october,) = finance.get(f"{HERE}/journal").json()
    assert (october["start"], october["entries"], october["over"], october["closed_at"]) == (
        "2026-10-01",
        3,
        True,
        None,
    )
    (bank,) = [a for a in finance.get(f"{HERE}/ledger-accounts").json() if a["role"] == "bank"]
    wrong = finance.put(f"{HERE}/ledger-accounts/{bank['id']}", json={"name": "The bank"})
    assert (wrong.status_code, wrong.json()["where"]) == (422, "name")
    named = finance.put(f"{HERE}/ledger-accounts/{bank['id']}", json={"name": "Assets:Bank:1"})
    assert (named.json()["name"], named.json()["otherwise"]) == ("Assets:Bank:1", "Assets:Bank")
    assert finance.put(f"{HERE}/ledger-accounts/999", json={"name": ""}).status_code == 404

    month = finance.get(f"{HERE}/journal/2026-10-01").json()
    assert sum(Decimal(a["balance"]) for a in month["accounts"]) == 0
    (on_bank,) = finance.get(f"{HERE}/journal/2026-10-01/entries?account=Assets:Bank:1").json()["rows"]
    assert (on_bank["kind"], [(p["account"], p["amount"]) for p in on_bank["postings"]]) == (
        "payment",
        [("Assets:Bank:1", "10.0000"), ("Assets:Receivable", "-10.0000")],
    )
    lines = finance.get(f"{HERE}/journal/2026-10-01/entries.csv?account=Assets:Bank:1").text.splitlines()
    assert len(lines) == 3 and lines[0].startswith("day,entry,kind,reference")
    assert finance.get(f"{HERE}/journal/2026-10-01/entries.csv?cursor=none").status_code == 422
    plain = finance.get(f"{HERE}/journal/2026-10-01/journal.txt")
    assert plain.headers["content-disposition"] == 'attachment; filename="journal-2026-10.txt"'
    assert finance.get(f"{HERE}/journal/accounts.txt").text.splitlines()[0] == 'option "operating_currency" "EUR"'

    closed = finance.post(f"{HERE}/journal/2026-10-01/close").json()["month"]
    assert closed["digest"] == hashlib.sha256(plain.content).hexdigest()
    again = finance.post(f"{HERE}/journal/2026-10-01/close")
    assert (again.status_code, again.json()["where"]) == (409, "the journal of October 2026")
    assert finance.post(f"{HERE}/journal/2026-11-01/close").status_code == 404
    assert finance.get(f"{HERE}/journal/2026-10-15").status_code == 422


def test_others_read_and_change_nothing(office: Office, finance: TestClient) -> None:
    manager = script(office, "product manager")
    for path in ("books", "books/differences", "journal", "journal/2026-10-01", "ledger-accounts"):
        assert manager.get(f"{HERE}/{path}").status_code == 200, path
    for method, path in (
        ("POST", "books/audits"),
        ("POST", "journal/2026-10-01/close"),
        ("PUT", "ledger-accounts/1"),
    ):
        assert manager.request(method, f"{HERE}/{path}", json={"name": ""}).status_code == 403, path
