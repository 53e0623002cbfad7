"""What was issued before there were accounts is on them: what is open stays open, by whom and until when."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from typing import Any

from alembic import command
from sqlalchemy import text

from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import configuration, upgrade
from tests.servers import RunDatabase

# Number, state, total, which invoice it corrects, and the instant of issue, in UTC.
DOCUMENTS = [
    ("INV-2026-00001", "issued", 60, None, "2026-09-02 08:00"),
    ("INV-2026-00002", "credited", 40, None, "2026-09-02 08:00"),
    ("INV-2026-00003", "paid", 0, None, "2026-09-02 08:00"),
    (None, "draft", 70, None, None),
    ("CN-2026-00001", "issued", 15, 1, "2026-09-03 08:00"),
    ("CN-2026-00002", "issued", 40, 2, "2026-09-30 23:30"),
]


def test_issued_documents_become_the_entries_of_accounts(database: RunDatabase) -> None:
    url = database.make_schema("calm_before_accounts")
    command.upgrade(configuration(url), "0045")
    made = engine(url)
    with made.begin() as connection:

        def insert(table: str, **given: Any) -> None:
            names, places = ", ".join(f"`{n}`" for n in given), ", ".join(f":{n}" for n in given)
            connection.execute(text(f"INSERT INTO {table} ({names}) VALUES ({places})"), given)

        connection.execute(text("SET foreign_key_checks = 0, sql_mode = ''"))
        insert(
            "provider",
            id=1,
            name="Tide Office",
            currency="EUR",
            time_zone="+01:00",
            working_days="[]",
            tax_changes="[]",
        )
        insert("consumer", id=7, name="Ferries", created_at="2026-07-01")
        for n, (number, state, total, corrects, issued) in enumerate(DOCUMENTS, 1):
            insert(
                "money_document",
                id=n,
                kind="credit note" if corrects else "invoice",
                number=number,
                consumer_id=7,
                period_start=f"2026-0{n}-01",
                period_end=f"2026-0{n + 1}-01",
                currency="EUR",
                subtotal=total,
                tax=0,
                total=total,
                state=state,
                created_at="2026-09-01",
                issued_at=issued,
                due_on="2026-09-16" if issued and not corrects else None,
                corrects_id=corrects,
            )
    upgrade(url)
    with made.begin() as connection:
        kept = "kind, `on`, amount, `left`, document_id, invoice_id"
        entries = connection.execute(text(f"SELECT {kept} FROM account_entry ORDER BY id")).all()
        went = connection.execute(text("SELECT entry_id, invoice_id, by_id, amount FROM allocation ORDER BY id")).all()
        still = connection.execute(text("SELECT state, open_amount FROM money_document ORDER BY id")).all()
        policy = connection.execute(text("SELECT reminders_after_days, pause_after_days FROM provider")).all()
    first, second, october = date(2026, 9, 2), date(2026, 9, 3), date(2026, 10, 1)
    assert entries == [
        ("invoice", first, 60, None, 1, 1),
        ("invoice", first, 40, None, 2, 2),
        ("credit note", second, 15, Decimal(0), 5, 1),
        ("credit note", october, 40, Decimal(0), 6, 2),  # a day begins with the provider's
    ]
    assert went == [(3, 1, 3, Decimal(15)), (4, 2, 4, Decimal(40))]
    assert still == [
        ("issued", Decimal(45)),
        ("credited", Decimal(0)),
        ("paid", Decimal(0)),
        ("draft", Decimal(0)),
        ("issued", None),
        ("issued", None),
    ]
    # Nobody is reminded, and nobody's calls are held up, before the house says so.
    assert policy == [("[]", None)]
