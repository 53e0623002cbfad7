"""Charging over HTTP, as a script does a month: run, look through, adjust, hold back, issue, credit."""

from __future__ import annotations

import csv
import io
from decimal import Decimal
from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.services.settle.periods import charging
from tests.console_api.test_consumer_data import script
from tests.office import Office
from tests.services.months import LATER
from tests.services.settle.documents.recorded import arrive, lose

MONTH = "/api/v1/periods/2026-09-01"


@pytest.fixture
def finance(office: Office) -> TestClient:
    arrive(office, 460, 0)
    return script(office, "finance")


def run(office: Office, finance: TestClient, what: str, key: str) -> Any:
    """Begin a run twice with one key, have it done, and read it."""
    begun = [finance.post(f"{MONTH}/{what}", headers={"Idempotency-Key": key}) for _ in range(2)]
    assert {answer.status_code for answer in begun} == {202}
    assert len({answer.json()["id"] for answer in begun}) == 1
    here = f"/api/v1/charge-runs/{begun[0].json()['id']}"
    assert finance.get(here).json()["state"] == "running"
    charging.go_on(office.ctx, begun[0].json()["id"])
    return finance.get(here).json()


def test_a_script_takes_a_month_from_its_run_to_a_credit_note(office: Office, finance: TestClient) -> None:
    drafted = run(office, finance, "run", "a")
    assert (drafted["kind"], drafted["state"], drafted["invoices"], drafted["planned"]) == ("draft", "done", 2, 2)
    drafts = finance.get(f"{MONTH}/drafts").json()
    ferries, kayaks = sorted(drafts["rows"], key=lambda row: row["consumer"])
    assert ferries["findings"] == ["the first invoice of its consumer"]
    written = list(csv.DictReader(io.StringIO(finance.get(f"{MONTH}/drafts.csv?sort=consumer").text)))
    assert [(row["consumer"], Decimal(row["subtotal"])) for row in written] == [
        ("Ferries", Decimal("29.38")),
        ("Kayaks", Decimal("28.00")),
    ]

    invoice = f"/api/v1/invoices/{ferries['invoice_id']}"
    line = {"words": "A week without tides", "amount": "-7.00", "reason": "Ticket 17"}
    for _ in range(2):
        answer = finance.post(f"{invoice}/adjustments", json=line, headers={"Idempotency-Key": "line"})
        assert answer.status_code == 204
    held = f"/api/v1/invoices/{kayaks['invoice_id']}/held-back"
    assert finance.put(held, json={"why": "Asked about."}).status_code == 204
    early = finance.post(f"{MONTH}/issue")
    assert (early.status_code, early.json()["where"]) == (409, "September 2026")

    office.clock.now = LATER
    issued = run(office, finance, "issue", "b")
    assert (issued["kind"], issued["invoices"], issued["refused"]) == ("issue", 1, [])
    read = finance.get(invoice).json()
    assert (read["summary"]["number"], read["summary"]["state"], read["subtotal"]) == (
        "INV-2026-00001",
        "issued",
        "22.3800",
    )
    assert finance.delete(held).status_code == 204

    lines = {part["kind"]: part for part in read["lines"]}
    wanted = {"reason": "An hour off.", "lines": [{"line": lines["fee"]["id"], "amount": "10.00"}]}
    said = finance.post(f"{invoice}/credit-notes/worked-out", json=wanted).json()
    assert (Decimal(said["total"]), said["currency"]) == (Decimal("12.30"), "EUR")
    made = finance.post(f"{invoice}/credit-notes", json=wanted, headers={"Idempotency-Key": "note"})
    assert (made.status_code, made.json()["number"]) == (201, "CN-2026-00001")
    note = finance.get(f"/api/v1/credit-notes/{made.json()['id']}").json()
    assert (note["summary"]["invoice"], note["summary"]["reason"], Decimal(note["total"])) == (
        "INV-2026-00001",
        "An hour off.",
        Decimal("12.30"),
    )
    lose(office, 400)
    (proposed,) = finance.get(invoice).json()["proposed"]
    assert (proposed["label"], proposed["number"]) == ("Forecast calls", "INV-2026-00001")
    (second,) = finance.post(f"{invoice}/proposed-credit", json={"reason": "Counted twice."}).json()
    assert second["number"] == "CN-2026-00002"


def test_what_cannot_be_done_is_refused_where_it_is_wrong(office: Office, finance: TestClient) -> None:
    run(office, finance, "run", "a")
    row = next(r for r in finance.get(f"{MONTH}/drafts").json()["rows"] if r["consumer"] == "Ferries")
    invoice = f"/api/v1/invoices/{row['invoice_id']}"
    line = {"words": "A week", "amount": "-7.00", "reason": "Ticket 17"}

    def refused(answer: Any, status: int, where: str) -> None:
        assert (answer.status_code, answer.json()["where"]) == (status, where), answer.text
        assert answer.headers["content-type"] == "application/problem+json"

    for wrong, where in (
        ({"words": ""}, "words"),
        ({"amount": "seven"}, "amount"),
        ({"amount": "0"}, "amount"),
        ({"amount": "1e400"}, "amount"),
        ({"amount": "0.001"}, "amount"),
        ({"reason": " "}, "reason"),
        ({"treatment": "zero"}, "treatment"),
    ):
        refused(finance.post(f"{invoice}/adjustments", json={**line, **wrong}), 422, where)
    refused(finance.put(f"{invoice}/held-back", json={"why": ""}), 422, "why")
    refused(finance.post(f"{invoice}/credit-notes", json={"reason": "x", "whole": True}), 409, "invoice")
    assert finance.get(f"{MONTH}/drafts?sort=colour").status_code == 422
    assert finance.get("/api/v1/periods/2026-09-02/drafts").json()["rows"] == []
    refused(finance.post("/api/v1/periods/2026-09-02/run"), 422, "period")
    refused(finance.post("/api/v1/periods/2027-09-01/run"), 409, "period")

    office.clock.now = LATER
    run(office, finance, "issue", "b")
    refused(finance.post(f"{invoice}/adjustments", json=line), 409, "invoice")
    refused(finance.put(f"{invoice}/held-back", json={"why": "Late."}), 409, "invoice")
    fee = finance.get(invoice).json()["lines"][0]["id"]
    for lines, status, where in (
        ([], 422, "lines"),
        ([{"line": 10**9, "amount": "1"}], 422, "lines[0].line"),
        ([{"line": fee, "amount": "1"}, {"line": fee, "amount": "1"}], 422, "lines[1].line"),
        ([{"line": fee, "amount": "28.01"}], 409, "lines[0].amount"),
        ([{"line": fee, "amount": "-1"}], 409, "lines[0].amount"),
    ):
        refused(finance.post(f"{invoice}/credit-notes", json={"reason": "x", "lines": lines}), status, where)
    refused(
        finance.post(f"{invoice}/credit-notes", json={"reason": "", "lines": [{"line": fee, "amount": "1"}]}),
        422,
        "reason",
    )
    assert finance.get(invoice).json()["credit_notes"] == []
    for gone in ("/charge-runs/0", "/credit-notes/0", "/invoices/0"):
        assert finance.get(f"/api/v1{gone}").status_code == 404
    assert script(office, "reviewer").post(f"{invoice}/credit-notes", json={"reason": "x"}).status_code == 403
