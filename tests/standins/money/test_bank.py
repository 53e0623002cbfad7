"""The bank among the stand-ins."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

import pytest
from starlette.testclient import TestClient

from calm_tariff.formats import camt
from calm_tariff.standins.app import create_app
from calm_tariff.standins.mailbox import Mailbox
from calm_tariff.standins.money.billing_there import BillingThere
from calm_tariff.standins.money.processing import Processing
from calm_tariff.standins.tickets import Desk

IBAN = "PT50000201231234567890154"


@pytest.fixture
def bank(tmp_path: Path) -> TestClient:
    return TestClient(
        create_app(
            Mailbox(), Desk("a secret", tmp_path / "tickets.json"), Processing("a secret"), BillingThere("a secret")
        )
    )


def test_transfers_come_with_the_statement_each_by_a_reference_of_its_own(bank: TestClient) -> None:
    sent = [
        {"amount": "49.20", "name": "Gannet <Ferries>", "text": "INV-2026-00001"},
        {"amount": "49.20", "name": "Gannet <Ferries>", "text": "INV-2026-00001"},
        {"amount": "-4.90", "text": "Fees"},
    ]
    made = [bank.post("/bank/transfers", json=each).json()["reference"] for each in sent]
    found = camt.read(bank.get("/bank/statement.xml", params={"iban": IBAN}).text)
    assert (found.iban, found.unread) == (IBAN, ())
    assert [line.reference for line in found.lines] == made and len(set(made)) == 3
    assert [(line.amount, line.name, line.text) for line in found.lines] == [
        (Decimal("49.20"), "Gannet <Ferries>", "INV-2026-00001"),
        (Decimal("49.20"), "Gannet <Ferries>", "INV-2026-00001"),
        (Decimal("-4.90"), "", "Fees"),
    ]
    page = bank.get("/bank").text
    assert "Gannet &lt;Ferries&gt;" in page and "<Ferries>" not in page


@pytest.mark.parametrize("amount", ["1.001", "much", None])
def test_what_is_no_amount_is_no_transfer(bank: TestClient, amount: object) -> None:
    assert bank.post("/bank/transfers", json={"amount": amount}).status_code == 422
    assert camt.read(bank.get("/bank/statement.xml", params={"iban": IBAN}).text).lines == ()
