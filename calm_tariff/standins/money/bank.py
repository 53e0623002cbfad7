"""A bank: transfers are made at /bank, by anybody to anybody, and come with its statement."""

from __future__ import annotations

import html
from datetime import UTC, datetime
from decimal import Decimal

from fastapi import APIRouter, Response
from fastapi.responses import HTMLResponse
from pydantic import BaseModel, Field

from calm_tariff.core.billing.bank.statements import BankLine
from calm_tariff.formats.camt_out import statement


class TransferMade(BaseModel):
    """A transfer to the account whose statement is asked for later: above 0 it comes in."""

    amount: Decimal = Field(max_digits=12, decimal_places=2)
    name: str = Field("", max_length=140)
    text: str = Field("", max_length=140)
    creditor_reference: str = Field("", max_length=35)
    currency: str = Field("EUR", max_length=3)


def router() -> APIRouter:
    """The bank, which forgets all with its process."""
    made = APIRouter()
    lines: list[BankLine] = []

    @made.post("/bank/transfers", status_code=201)
    async def transfer(of: TransferMade) -> dict[str, str]:
        today = datetime.now(UTC).date()
        reference = f"{datetime.now(UTC):%Y%m%d%H%M%S%f}"
        details = of.model_dump(exclude={"amount"})
        lines.append(BankLine(reference=reference, booked_on=today, value_on=today, amount=of.amount, **details))
        return {"reference": reference}

    @made.get("/bank/statement.xml")
    async def statement_file(iban: str) -> Response:
        text = statement(iban, lines, datetime.now(UTC).date())
        return Response(text, media_type="application/xml")

    @made.get("/bank", response_class=HTMLResponse)
    async def page() -> str:
        rows = "".join(
            f"<tr><td>{line.booked_on}<td>{html.escape(line.name)}<td>{html.escape(line.text)}"
            f"<td>{html.escape(line.creditor_reference)}<td>{line.amount} {html.escape(line.currency)}"
            for line in reversed(lines)
        )
        return (
            "<!doctype html><title>The bank</title><h1>The bank</h1><p>POST /bank/transfers makes one; "
            "/bank/statement.xml?iban=… is the statement, to be brought in under Settle → Payments.</p>"
            f"<table><tr><th>Day<th>From<th>Written<th>Reference<th>Amount{rows}</table>"
        )

    return made
