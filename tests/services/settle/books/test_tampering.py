"""Whatever a hand changes in one table of a house where everything was booked, the books find it, and name it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import timedelta
from decimal import Decimal

import pytest
from sqlalchemy import select, text

from calm_tariff.core.ids import call_id
from calm_tariff.core.periods import instant_of
from calm_tariff.services.settle.bank import entries as bank_entries
from calm_tariff.services.settle.bank import statements
from calm_tariff.services.settle.bank.entries import Part
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.books.audits import Found
from calm_tariff.services.settle.documents import files
from calm_tariff.services.settle.journal import months
from calm_tariff.store.settle.bank import BankEntry
from calm_tariff.store.tables import metadata
from tests.formats.camt_files import Sent, camt
from tests.office import START, Office
from tests.services.months import OCTOBER
from tests.services.settle.accounts.owing import at, whose
from tests.services.settle.documents.recorded import arrive, invoice_of, lose
from tests.services.settle.journal.lived import lived


def look(office: Office) -> Found:
    return audits.look_through(office.finance)


@pytest.fixture
def house(office: Office) -> Office:
    """Calls served, refused and struck out, late ones, two months charged, one of the journal closed, files written, a
    transfer from a statement, a payment by card."""
    lived(office)
    lose(office, 1)
    owed = invoice_of(office, OCTOBER)
    files.write(office.finance, owed.summary.id)
    told = camt(Sent("B1", "7.00", f"for {owed.summary.number}"), Sent("B2", "5.00", "thanks"))
    statements.bring_in(office.finance, "today.xml", told, "camt.053")
    with office.ctx.transaction() as session:
        first = session.scalars(select(BankEntry.id).where(BankEntry.reference == "B1")).one()
    bank_entries.assign(office.finance, first, [Part(consumer_id=whose(office), amount=Decimal("7.00"))])
    at(office, 2026, 12, 2)
    months.close(office.finance, OCTOBER)
    return office


def test_a_house_in_which_everything_was_booked_agrees(house: Office) -> None:
    found = look(house)
    assert found.differences == []
    assert all(proof.compared for proof in found.proofs if proof.check != "handoff")
    sums = {proof.check: dict(proof.sums) for proof in found.proofs}
    assert len({*sums["calls"].values()}) == len({*sums["units"].values()}) == 1
    assert sums["documents"]["documents"] == sums["accounts"]["their entries"] > 0
    assert sums["accounts"]["all entries"] == sums["journal"]["receivable postings"]
    units = sums["charges"]
    assert units["calls"] == sum(amount for name, amount in units.items() if name != "calls")
    assert units["charged"] > 0
    (september,) = [each for each in found.calls if each["period"] == "2026-09-01"]
    assert september["struck_out"] == 1
    assert september["recorded"] == sum(n for name, n in september.items() if name not in ("period", "recorded"))


@dataclass(frozen=True)
class Changed:
    """A change made by hand in one table, and the check that finds it."""

    sql: str
    check: str
    says: str


# When Ferries made its eighth call; the first was struck out.
SEVENTH = START + timedelta(minutes=7)
LINE = "SELECT MIN(id) FROM money_line WHERE kind = 'usage' AND sort = 'own' AND quantity > 10"
FEE = "SELECT MIN(id) FROM money_line WHERE kind = 'fee' AND sort = 'own'"
LATE = "SELECT MIN(id) FROM money_line WHERE sort = 'late' AND kind = 'usage'"
ISSUED = "SELECT MIN(id) FROM money_document WHERE number IS NOT NULL"
PAID = "SELECT MIN(id) FROM account_entry WHERE kind = 'payment' AND `left` > 0"

CHANGES = {
    "a call is gone": Changed("DELETE FROM `call` WHERE strike_id IS NULL ORDER BY at_us LIMIT 1", "units", "units"),
    "a call is refused after all": Changed(
        "UPDATE `call` SET verdict = 'refused' WHERE strike_id IS NULL ORDER BY at_us LIMIT 1", "calls", "served"
    ),
    "a call counts more": Changed(
        "UPDATE `call` SET units = JSON_SET(units, '$.\"1\"', '5') WHERE strike_id IS NULL AND units <> '{}'"
        " ORDER BY at_us LIMIT 1",
        "units",
        "units",
    ),
    "a call is another's": Changed("UPDATE `call` SET consumer_id = 999 ORDER BY at_us LIMIT 1", "calls", "served"),
    "a call is of another time": Changed(
        "UPDATE `call` SET at_us = at_us + 40 * 86400000000 WHERE strike_id IS NULL ORDER BY at_us LIMIT 1",
        "units",
        "units",
    ),
    "a struck call counts again": Changed("UPDATE `call` SET strike_id = NULL", "units", "units"),
    "an hour says more": Changed("UPDATE hourly_usage SET units = units + 1 LIMIT 1", "units", "units"),
    "an hour says more calls": Changed("UPDATE hourly_usage SET calls = calls + 1 LIMIT 1", "units", "counted"),
    "a day says more": Changed("UPDATE daily_usage SET units = units + 1 LIMIT 1", "units", "units"),
    "a day is gone": Changed("DELETE FROM daily_usage LIMIT 1", "units", "units"),
    "an hour's verdicts": Changed("UPDATE hourly_verdicts SET calls = calls + 1 LIMIT 1", "calls", "served"),
    "an hour's outcomes": Changed("UPDATE hourly_outcomes SET calls = calls + 1 LIMIT 1", "calls", "served"),
    "a day's verdicts": Changed("UPDATE daily_verdicts SET calls = calls + 1 LIMIT 1", "calls", "served"),
    "a line's amount": Changed(f"UPDATE money_line SET amount = amount + 1 WHERE id = ({LINE})", "documents", "amount"),
    "a line's units": Changed(
        f"UPDATE money_line SET quantity = quantity + 1 WHERE id = ({LINE})", "documents", "units"
    ),
    "a line's days": Changed(
        f"UPDATE money_line SET by_day = JSON_SET(by_day, '$[0][1]', '999') WHERE id = ({LINE})", "documents", "units"
    ),
    "a late line's amount": Changed(
        f"UPDATE money_line SET amount = amount + 1 WHERE id = ({LATE})", "documents", "amount"
    ),
    "a line is gone": Changed(f"DELETE FROM money_line WHERE id = ({FEE})", "documents", "fee"),
    "evidence": Changed(
        "UPDATE money_document SET evidence = JSON_SET(evidence, '$.segments[0].plan.prices[0].amount', '999')"
        f" WHERE id = ({ISSUED})",
        "documents",
        "amount",
    ),
    "a document's total": Changed(
        f"UPDATE money_document SET total = total + 1 WHERE id = ({ISSUED})", "documents", "the total"
    ),
    "a document's tax": Changed(f"UPDATE money_document SET tax = tax + 1 WHERE id = ({ISSUED})", "documents", "tax"),
    "a document's number": Changed(
        f"UPDATE money_document SET number = 'INV-2026-00099' WHERE id = ({ISSUED})", "numbers", "1, 99"
    ),
    "what is open": Changed(
        "UPDATE money_document SET open_amount = open_amount + 1 WHERE number = 'INV-2026-00001'", "accounts", "open"
    ),
    "a tax group": Changed("UPDATE document_tax SET tax = tax + 1 LIMIT 1", "documents", "tax of 23%"),
    "a number series": Changed("UPDATE number_series SET last = last + 1 LIMIT 1", "numbers", "numbers of"),
    "a file": Changed("UPDATE document_file SET content = CONCAT(content, ' ') LIMIT 1", "numbers", "of INV-2026"),
    "an entry": Changed(
        "UPDATE account_entry SET amount = amount + 1 WHERE kind = 'invoice' LIMIT 1", "accounts", "on its account"
    ),
    "what is left of a payment": Changed(
        f"UPDATE account_entry SET `left` = `left` + 1 WHERE id = ({PAID})", "accounts", "where it went"
    ),
    "an allocation": Changed(
        "UPDATE allocation SET amount = amount + 1 WHERE invoice_id IS NOT NULL LIMIT 1", "accounts", "what is open"
    ),
    "an allocation is gone": Changed("DELETE FROM allocation LIMIT 1", "accounts", "where it went"),
    "a posting": Changed("UPDATE posting SET amount = amount + 1 LIMIT 1", "journal", "receivable"),
    "two postings": Changed(
        "UPDATE posting p JOIN ledger l ON l.id = p.ledger_id SET p.amount = p.amount + IF(l.role = 'tax', 1, -1)"
        " WHERE p.entry_id = (SELECT MIN(id) FROM account_entry) AND l.role IN ('tax', 'revenue')",
        "journal",
        "tax",
    ),
    "a closed month's text": Changed(
        "UPDATE journal_month SET digest = REPEAT('0', 64) WHERE closed_at IS NOT NULL", "journal", "text of the closed"
    ),
    "a closed month's sum": Changed(
        "UPDATE journal_month SET debit = debit + 1 WHERE closed_at IS NOT NULL", "journal", "debit of the closed"
    ),
    "what the bank said": Changed(
        "UPDATE bank_entry SET amount = amount + 1 WHERE reference = 'B1'", "money", "the bank's entry B1"
    ),
    "what waits is matched": Changed(
        "UPDATE bank_entry SET state = 'matched' WHERE reference = 'B2'", "money", "the bank's entry B2"
    ),
    "what a card paid": Changed("UPDATE payment_attempt SET amount = amount + 1", "money", "taken from a card"),
}


@contextmanager
def kept(office: Office, table: str) -> Iterator[None]:
    """Have a table as it was, afterwards."""
    with office.ctx.sessions() as session:
        session.execute(text("SET foreign_key_checks = 0"))
        names = ", ".join(f"`{c.name}`" for c in metadata.tables[table].columns if c.computed is None)
        session.execute(text(f"CREATE TEMPORARY TABLE kept AS SELECT {names} FROM `{table}`"))
        yield
        session.execute(text(f"DELETE FROM `{table}`"))
        session.execute(text(f"INSERT INTO `{table}` ({names}) SELECT {names} FROM kept"))
        session.execute(text("DROP TEMPORARY TABLE kept"))
        session.execute(text("SET foreign_key_checks = 1"))
        session.commit()


def test_a_hand_in_any_one_table_is_found(house: Office) -> None:
    """All in one house: it takes long to come to be."""
    missed, tables = {}, set()
    for which, changed in CHANGES.items():
        (table,) = re.findall(r"^(?:UPDATE|DELETE FROM) `?(\w+)", changed.sql)
        tables.add(table)
        with kept(house, table):
            with house.ctx.transaction() as session:
                session.execute(text("SET foreign_key_checks = 0"))
                assert session.execute(text(changed.sql)).rowcount > 0, which  # type: ignore[attr-defined]
                session.execute(text("SET foreign_key_checks = 1"))
            found = look(house).differences
        if not any(each.check == changed.check and changed.says in each.what for each in found):
            missed[which] = [(each.check, each.what) for each in found]
    assert missed == {}
    assert look(house).differences == []
    assert tables == {
        *("call", "hourly_usage", "daily_usage", "hourly_verdicts", "hourly_outcomes", "daily_verdicts"),
        *("money_document", "money_line", "document_tax", "number_series", "document_file"),
        *("account_entry", "allocation", "bank_entry", "payment_attempt", "posting", "journal_month"),
    }


def tampered(office: Office, sql: str) -> Found:
    with office.ctx.transaction() as session:
        session.execute(text(sql))
    return look(office)


def of_units(found: Found) -> list[tuple[Decimal, Decimal]]:
    return [(d.sums[0][1], d.sums[-1][1]) for d in found.differences if d.check in ("units", "charges")]


def test_a_call_that_says_more_is_named(house: Office) -> None:
    called = call_id(instant_of(SEVENTH), 7)
    found = tampered(house, f"UPDATE `call` SET units = '{{\"1\": \"5\"}}' WHERE call_id = '{called}'")
    by_check = {difference.check: stretches for difference, stretches in found.narrowed}
    assert set(by_check) == {"units", "charges"}
    for stretches in by_check.values():
        (stretch,) = stretches
        assert stretch.until_us - stretch.since_us == 3_600_000_000
        assert stretch.since_us <= instant_of(START) < stretch.until_us
        assert [(w.call_id, w.says, w.reads) for w in stretch.wrong] == [(called, Decimal(5), Decimal(1))]


@pytest.mark.parametrize(
    ("sql", "size", "tables"),
    [
        ("DELETE FROM `call` WHERE call_id = '{call}'", 3_600_000_000, ["calls", "hours"]),
        ("UPDATE hourly_usage SET units = units + 1 ORDER BY hour_us LIMIT 1", 3_600_000_000, ["calls", "hours"]),
        ("UPDATE daily_usage SET units = units + 1 ORDER BY day_us LIMIT 1", 86_400_000_000, ["hours", "days"]),
    ],
)
def test_the_hour_or_day_that_differs_is_named(house: Office, sql: str, size: int, tables: list[str]) -> None:
    found = tampered(house, sql.format(call=call_id(instant_of(SEVENTH), 7)))
    stretches = [stretch for each, of in found.narrowed if each.check == "units" for stretch in of]
    assert stretches
    for stretch in stretches:
        assert stretch.until_us - stretch.since_us == size
        assert [name for name, _ in stretch.sums] == tables
        assert stretch.wrong == []


def test_verdicts_that_differ_are_named_by_the_hour(house: Office) -> None:
    found = tampered(house, "UPDATE hourly_outcomes SET calls = calls + 2 ORDER BY hour_us LIMIT 1")
    ((difference, stretches),) = found.narrowed
    assert (difference.check, difference.consumer_id) == ("calls", whose(house))
    (stretch,) = stretches
    said = dict(stretch.sums)
    assert said["hours by outcome"] - said["calls"] == 2


def test_what_is_late_waits_and_is_no_difference(house: Office) -> None:
    arrive(house, 5, 9000)
    found = look(house)
    assert found.differences == []
    late: Callable[[Found], Decimal] = lambda f: sum((u.late for u in f.units.values()), Decimal(0))  # noqa: E731
    assert late(found) == 4  # five more, and one that was struck out after it was charged
