"""Statements over HTTP, as a script brings them in every morning."""

from __future__ import annotations

import csv
import io
from decimal import Decimal
from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.services.base.context import provider_of
from tests.console_api.test_consumer_data import script
from tests.formats.camt_files import IBAN, Sent, camt
from tests.office import Office
from tests.services.months import LATER, issued
from tests.services.settle.accounts.owing import account, at, whose

HERE = "/api/v1/bank"
PAID = Sent("B1", "34.44", "INV-2026-00001")
UNCLEAR = Sent("B2", "40.00", "thanks", name="Kayaks")


@pytest.fixture
def finance(office: Office) -> TestClient:
    office.clock.now = LATER
    issued(office)
    with office.ctx.transaction() as session:
        provider_of(session).iban = IBAN
    at(office, 2026, 10, 6)
    return script(office, "finance")


def bring(finance: TestClient, text: str, **more: Any) -> Any:
    return finance.post(f"{HERE}/statements", json={"name": "today.xml", "text": text, **more})


def test_a_script_brings_a_statement_in_and_assigns_what_waits(office: Office, finance: TestClient) -> None:
    first = bring(finance, camt(PAID, UNCLEAR))
    assert (first.status_code, first.json()["new"], first.json()["matched"]) == (201, 2, 1)
    assert bring(finance, camt(PAID, UNCLEAR)).json()["known"] == 2
    (entry,) = finance.get(f"{HERE}/waiting").json()["rows"]
    assert [(g["number"], g["why"]) for g in entry["guesses"]] == [("INV-2026-00002", ["name"])]
    parts = [
        {"consumer_id": whose(office, 1), "amount": "34.44", "invoice_id": entry["guesses"][0]["invoice_id"]},
        {"consumer_id": whose(office), "amount": "5.56"},
    ]
    wrong = finance.post(f"{HERE}/entries/{entry['id']}/assign", json={"parts": parts[:1]})
    assert (wrong.status_code, wrong.json()["where"]) == (422, "parts")
    for _ in range(2):
        done = finance.post(
            f"{HERE}/entries/{entry['id']}/assign", json={"parts": parts}, headers={"Idempotency-Key": "a"}
        )
        assert done.status_code == 204, done.text
    assert (account(office, 1).balance, account(office).credit) == (0, Decimal("5.56"))
    rows = list(csv.DictReader(io.StringIO(finance.get(f"{HERE}/done.csv?sort=oldest").text)))
    assert [(r["reference"], r["state"]) for r in rows] == [("B1", "matched"), ("B2", "assigned")]
    assert finance.post(f"{HERE}/entries/{entry['id']}/send-back", json={"why": "No."}).status_code == 409
    assert finance.post(f"{HERE}/entries/{entry['id']}/take-back", json={"why": "Wrong."}).status_code == 204
    assert finance.get(f"{HERE}/waiting").json()["total"] == 1
    assert finance.post(f"{HERE}/entries/{entry['id']}/send-back", json={"why": "No."}).status_code == 204


@pytest.mark.parametrize(
    ("sent", "status", "where"),
    [
        ({"text": "<a"}, 422, "text"),
        ({"text": "a;b\n1;2\n", "form": "csv"}, 422, "columns"),
        ({"text": "a;b\n1;2\n", "form": "csv", "columns": {"booked_on": "a", "amount": "c"}}, 422, "columns.amount"),
        ({"text": camt(PAID, iban="DE89370400440532013000")}, 409, "the statement"),
        ({"text": "x", "form": "mt940"}, 422, "form"),
    ],
)
def test_what_cannot_be_used_is_refused_and_nothing_is_kept(
    finance: TestClient, sent: dict[str, Any], status: int, where: str
) -> None:
    answer = finance.post(f"{HERE}/statements", json=sent)
    assert (answer.status_code, answer.json()["where"]) == (status, where)
    assert finance.get(f"{HERE}/statements").json()["total"] == 0
    assert finance.get(f"{HERE}/columns").json() == {}


def test_columns_are_kept_for_the_next_file(finance: TestClient) -> None:
    columns = {"booked_on": "Day", "amount": "Sum", "days": "31.12.2026", "point": ","}
    made = bring(finance, "Day;Sum\n05.10.2026;1,50\n", form="csv", columns=columns)
    assert (made.status_code, made.json()["new"]) == (201, 1)
    assert bring(finance, "Day;Sum\n06.10.2026;2,50\n", form="csv").json()["new"] == 1
    assert finance.get(f"{HERE}/columns").json()["booked_on"] == "day"
