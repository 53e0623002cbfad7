"""Accounts over HTTP, as a script books what came in, and as those who paid see it."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

import pytest
from starlette.testclient import TestClient

from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base.context import provider_of
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.services.settle.accounts import reminding
from tests.console_api.test_consumer_data import script
from tests.office import PASSWORD, Office
from tests.services.months import LATER, issued
from tests.services.settle.accounts.owing import whose

HERE = "/api/v1/accounts"


@pytest.fixture
def finance(office: Office) -> TestClient:
    """Each consumer owes 34.44 for September, due on 17 October."""
    office.clock.now = LATER
    issued(office)
    with office.ctx.transaction() as session:
        provider_of(session).write_off_limit = Decimal(10)
        provider_of(session).iban = "PT50000201231234567890154"
    return script(office, "finance")


def rows(answer: Any) -> list[dict[str, str]]:
    return list(csv.DictReader(io.StringIO(answer.text)))


def test_a_script_books_what_came_in_and_what_went_back(office: Office, finance: TestClient) -> None:
    listed = finance.get(HERE).json()
    assert [(r["consumer"], r["balance"]) for r in listed["rows"]] == [("Ferries", "34.4400"), ("Kayaks", "34.4400")]
    assert Decimal(listed["together"]["balance"]) == Decimal("68.88")
    account = f"{HERE}/{whose(office)}"
    invoice = finance.get(account).json()["invoices"][0]
    money = {
        "amount": "40.00",
        "value_on": "2026-10-02",
        "reference": "RF76 INV2 0260 0001",
        "invoice_id": invoice["id"],
    }
    twice = [finance.post(f"{account}/payments", json=money, headers={"Idempotency-Key": "a"}) for _ in range(2)]
    assert {a.status_code for a in twice} == {201} and twice[0].json() == twice[1].json()
    read = finance.get(f"/api/v1/invoices/{invoice['id']}").json()
    assert (read["summary"]["state"], read["summary"]["open"], read["transfer"]) == ("paid", "0.0000", None)
    back = {"amount": "5.56", "value_on": "2026-10-03"}
    assert finance.post(f"{account}/refunds", json=back).status_code == 201
    assert Decimal(finance.get(account).json()["balance"]) == 0
    entries = finance.get(f"{account}/entries").json()
    assert [(e["kind"], Decimal(e["amount"]), Decimal(e["balance"])) for e in entries["rows"]] == [
        ("refund", Decimal("5.56"), 0),
        ("payment", Decimal(-40), Decimal("-5.56")),
        ("invoice", Decimal("34.44"), Decimal("34.44")),
    ]
    written = rows(finance.get(f"{account}/entries.csv?sort=oldest"))
    assert [(r["kind"], r["number"], r["reference"]) for r in written] == [
        ("invoice", "INV-2026-00001", ""),
        ("payment", "", "RF76 INV2 0260 0001"),
        ("refund", "", ""),
    ]
    payment = entries["rows"][1]["id"]
    refused = finance.post(f"/api/v1/account-entries/{payment}/return", json={"reason": "It went back."})
    assert (refused.status_code, refused.json()["where"]) == (422, "of")
    other = f"{HERE}/{whose(office, 1)}"
    entry = finance.post(f"{other}/payments", json={"amount": "30", "value_on": "2026-10-03"}).json()["id"]
    assert finance.post(f"/api/v1/account-entries/{entry}/return", json={"reason": "A mistake."}).status_code == 201
    assert Decimal(finance.get(other).json()["open"]) == Decimal("34.44")
    assert [r["consumer"] for r in rows(finance.get(f"{HERE}.csv?sort=open&down=true"))] == ["Kayaks", "Ferries"]


@pytest.mark.parametrize(
    ("change", "where"),
    [
        ({"amount": "0"}, "amount"),
        ({"amount": "1.001"}, "amount"),
        ({"amount": "1e30"}, "amount"),
        ({"value_on": "2026-10-04"}, "value_on"),
        ({"value_on": "soon"}, "value_on"),
        ({"reference": "a\u200bb"}, "reference"),
        ({"invoice_id": 99_999}, "invoice_id"),
    ],
)
def test_what_cannot_be_booked_is_refused_by_its_field(
    office: Office, finance: TestClient, change: dict[str, Any], where: str
) -> None:
    money = {"amount": "1.00", "value_on": "2026-10-03", **change}
    answer = finance.post(f"{HERE}/{whose(office)}/payments", json=money)
    assert (answer.status_code, answer.json()["where"]) == (422, where)
    assert finance.get(f"{HERE}/{whose(office)}/entries").json()["total"] == 1


def test_giving_up_takes_two_where_it_is_much(office: Office, finance: TestClient) -> None:
    invoice = finance.get(f"{HERE}/{whose(office)}").json()["invoices"][0]["id"]
    asked = finance.post(f"/api/v1/invoices/{invoice}/write-off", json={"reason": "They are gone."})
    assert (asked.status_code, asked.json()["state"], asked.json()["own"]) == (201, "waiting", True)
    made = f"/api/v1/write-offs/{asked.json()['id']}"
    assert finance.post(f"{made}/agree").status_code == 403
    assert script(office, "finance").post(f"{made}/agree").status_code == 204
    read = finance.get(f"/api/v1/invoices/{invoice}").json()
    assert (read["summary"]["state"], read["write_offs"][0]["state"]) == ("written off", "agreed")
    assert finance.delete(made).status_code == 409


def test_who_owes_sees_its_own_account_alone(office: Office, finance: TestClient) -> None:
    money = {"amount": "4.44", "value_on": "2026-10-03", "reference": "our transfer"}
    finance.post(f"{HERE}/{whose(office)}/payments", json=money)
    office.clock.now = datetime(2026, 10, 21, 9, tzinfo=UTC)
    reminding.look(office.ctx)
    portal = TestClient(finance.app, base_url="http://127.0.0.1:8400")
    portal.cookies.set("calm_portal", sessions.sign_in(office.ctx, MEMBERS, "ferries@consumer.example", PASSWORD))
    mine = portal.get("/portal/api/v1/account").json()
    assert (mine["consumer"], mine["balance"], mine["iban"]) == ("Ferries", "30.0000", "PT50000201231234567890154")
    assert [(i["number"], i["state"], [r["after_days"] for r in i["reminders"]]) for i in mine["invoices"]] == [
        ("INV-2026-00001", "overdue", [3])
    ]
    shown = portal.get("/portal/api/v1/account/entries").json()["rows"]
    assert [(e["kind"], e["reference"], e["made_by"]) for e in shown] == [
        ("payment", "our transfer", ""),
        ("invoice", "", ""),
    ]
    assert "made_by" not in rows(portal.get("/portal/api/v1/account/entries.csv"))[0]
    invoice = portal.get(f"/portal/api/v1/invoices/{mine['invoices'][0]['id']}").json()
    assert invoice["transfer"] == {
        "reference": "RF76INV202600001",
        "iban": "PT50000201231234567890154",
        "bic": "",
    }
    assert invoice["write_offs"] == []
    assert portal.get(f"{HERE}/{whose(office)}").status_code == 401
