"""Invoices of an installation of an earlier version come over as they are."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

from alembic import command
from sqlalchemy import text

from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import configuration, upgrade
from tests.servers import RunDatabase

TERMS = {
    "standard": '{"pricing": {"tax": "standard", "prices": []}}',
    "exempt": '{"pricing": {"prices": [], "tax": "exempt"}}',
    "unsaid": '{"pricing": {"prices": []}}',
}
AS_BEFORE = "SELECT number, state, subtotal, tax, total, evidence, issued_at, due_on FROM"


def test_invoices_and_their_numbers_stay_as_they_were_beside_credit_notes(database: RunDatabase) -> None:
    """Lines say how they are taxed, and which they are of those alike; tax goes by groups."""
    url = database.make_schema("calm_before_credit_notes")
    command.upgrade(configuration(url), "0043")
    made = engine(url)
    with made.begin() as connection:

        def insert(table: str, **given: Any) -> None:
            names, places = ", ".join(f"`{n}`" for n in given), ", ".join(f":{n}" for n in given)
            connection.execute(text(f"INSERT INTO {table} ({names}) VALUES ({places})"), given)

        connection.execute(text("SET foreign_key_checks = 0, sql_mode = ''"))
        insert("provider", id=1, name="Tide Office", currency="EUR", tax_percent=23, working_days="[]")
        insert("consumer", id=7, name="Ferries", created_at="2026-09-01")
        insert("charge_run", id=1, period_start="2026-08-01", period_end="2026-09-01", started_at="2026-09-01")
        insert("number_series", kind="invoice", year=2026, last=17)
        insert("subscription", id=4, application_id=1, plan_id=1, state="active", started_at="2026-08-01")
        for n, terms in enumerate(TERMS.values(), 1):
            insert("plan_revision", id=n, plan_id=1, number=n, terms=terms, published_at="2026-08-01")
        for n, (number, state) in enumerate((("INV-2026-00017", "issued"), (None, "draft")), 1):
            insert(
                "invoice",
                id=n,
                number=number,
                consumer_id=7,
                run_id=1,
                period_start=f"2026-0{7 + n}-01",
                period_end=f"2026-0{8 + n}-01",
                currency="EUR",
                tax_percent=23,
                subtotal="50.5000",
                tax="9.3200",
                total="59.8200",
                state=state,
                evidence='{"currency": "EUR", "tax_percent": "23"}',
                created_at="2026-09-01",
                issued_at="2026-09-02" if number else None,
                due_on="2026-09-16" if number else None,
            )
        lines = [
            (1, "usage", 5, "20.0000"),
            (1, "usage", 5, "20.5000"),
            (2, "fee", None, "9.0000"),
            (3, "fee", None, 1),
        ]
        for place, (revision, kind, meter, amount) in enumerate(lines):
            insert(
                "invoice_line",
                invoice_id=1,
                place=place,
                segment=0 if revision == 1 else revision,
                subscription_id=4,
                revision_id=revision,
                segment_start="2026-08-01",
                segment_end="2026-09-01",
                kind=kind,
                meter_id=meter,
                amount=amount,
                slices="[]",
                by_day='[["2026-08-03", "7"]]' if meter else None,
            )
        insert("meter", id=5, name="Forecast calls", outcomes="[]", environments="[]", credentials="[]")
        before = connection.execute(text(f"{AS_BEFORE} invoice ORDER BY id")).all()
    upgrade(url)
    with made.begin() as connection:
        assert connection.execute(text(f"{AS_BEFORE} money_document ORDER BY id")).all() == before
        documents = connection.execute(text("SELECT kind, invoiced_period = period_start FROM money_document")).all()
        kept = "sort, belongs_to, nth, treatment, percent, amount, by_day IS NOT NULL"
        lines = connection.execute(text(f"SELECT {kept} FROM money_line ORDER BY place")).all()
        groups = connection.execute(text("SELECT treatment, percent, base, tax FROM document_tax ORDER BY place")).all()
        series = connection.execute(text("SELECT kind, year, last FROM number_series")).all()
    assert documents == [("invoice", 1)] * 2
    august = date(2026, 8, 1)
    assert lines == [
        ("own", august, 0, "standard", 23, 20, 1),
        ("own", august, 1, "standard", 23, Decimal("20.5"), 1),
        ("own", august, 0, "exempt", 0, 9, 0),
        ("own", august, 0, "standard", 23, 1, 0),
    ]
    assert groups == [("standard", 23, Decimal("41.5"), Decimal("9.32")), ("exempt", 0, 9, 0)]
    assert series == [("invoice", 2026, 17)]
