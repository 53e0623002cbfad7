"""From the calls of the demo alone to every line, tax and total of its documents, and on to accounts and the journal:
by a second arithmetic that shares nothing with the product's (`by_hand`)."""

from __future__ import annotations

import csv
import io
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime, time, timedelta
from fractions import Fraction
from typing import Any

import pytest
from sqlalchemy import Engine, text

from calm_tariff.demo.load import found, load
from calm_tariff.edge.processor import processor_of
from calm_tariff.services.base.context import Actor, Context, context_for
from calm_tariff.services.serve.elsewhere import files, going_on
from calm_tariff.services.settle import striking
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.documents import credit_notes
from calm_tariff.services.settle.handoff import revising
from calm_tariff.services.settle.journal import months
from calm_tariff.services.settle.periods import charging
from calm_tariff.services.settle.striking import Wanted
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.tables import metadata
from tests.processes import HERE, Processes
from tests.servers import RunDatabase
from tests.whole.by_hand import Account, House, Line, Month, Place, Row, cents, read, taxed


@dataclass(frozen=True)
class Demo:
    """The demo, loaded, and how to ask its database with plain SQL."""

    ctx: Context
    made: Engine
    late_usage: str

    def ask(self, sql: str) -> list[Row]:
        with self.made.connect() as connection:
            return [dict(row._mapping) for row in connection.execute(text(sql))]

    @property
    def finance(self) -> Context:
        return self.ctx.acting(Actor("Beatriz", frozenset({"finance"})))

    @property
    def months(self) -> list[Month]:
        """The months of which something was charged, the oldest first."""
        house = House(self.ask)
        starts = self.ask("SELECT DISTINCT period_start AS start FROM money_document WHERE state <> 'draft' ORDER BY 1")
        return [Month(each["start"], house.where) for each in starts]


@pytest.fixture(scope="module")
def demo(database: RunDatabase, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    url = database.make_schema("calm_whole")
    upgrade(url)
    processes = Processes(
        tmp_path_factory.mktemp("whole"), database.let_serve("calm_whole", metadata.tables), demo=True
    )
    made = engine(url)
    ctx = context_for(made, reach=HERE, sealing_secret=processes.settings.value_secret)
    found(ctx)
    processes.start("standins")
    try:
        loaded = load(ctx, processes.standins, scale=0.15, processor=processor_of(processes.settings, hears=False))
        yield Demo(ctx, made, loaded.late_usage)
    finally:
        processes.stop()
        made.dispose()


def charged(demo: Demo, month: Month) -> dict[int, dict[Place, Fraction]]:
    """What documents charge of a month, less what was credited and may be charged again, by consumer and place."""
    found: dict[int, dict[Place, Fraction]] = defaultdict(lambda: defaultdict(Fraction))
    for line in demo.ask(
        "SELECT l.*, d.consumer_id FROM money_line l JOIN money_document d ON d.id = l.document_id"
        f" WHERE l.belongs_to = '{month.start}' AND l.sort <> 'adjustment' AND d.state <> 'draft'"
        " AND IFNULL(d.chargeable_again, 1)"
    ):
        sign = -1 if line["sort"] == "credit" else 1
        place = (line["subscription_id"], line["segment_start"].replace(tzinfo=UTC), line["kind"], line["meter_id"])
        found[line["consumer_id"]][place] += sign * Fraction(line["amount"])
    return found


def expected(lines: list[Line]) -> dict[Place, Fraction]:
    found: dict[Place, Fraction] = defaultdict(Fraction)
    for line in lines:
        found[line.place] += line.amount
    return found


def without_nothing(of: dict[Place, Fraction]) -> dict[Place, Fraction]:
    return {place: amount for place, amount in of.items() if amount}


def differing(demo: Demo) -> list[Any]:
    """Where documents charge something else than the calls come to."""
    house = House(demo.ask)
    units, wrong = house.units(), []
    for month in demo.months:
        lines, there = house.lines(month, units), charged(demo, month)
        closed = demo.ask(
            f"SELECT consumer_id FROM money_document WHERE kind = 'invoice' AND state <> 'draft'"
            f" AND period_start = '{month.start}'"
        )
        # A hundred days may begin on the last of a month.
        assert len(closed) > (5 if month == demo.months[0] else 10)
        for row in closed:
            consumer = row["consumer_id"]
            by_hand, said = without_nothing(expected(lines[consumer])), without_nothing(there[consumer])
            if by_hand != said:
                wrong.append((month.start, house.consumers[consumer]["name"], by_hand, said))
    return wrong


def test_every_line_of_every_document_comes_of_the_calls(demo: Demo) -> None:
    assert differing(demo) == []
    house = House(demo.ask)
    units, compared = house.units(), 0
    for month in demo.months:
        own = {
            (line["subscription_id"], line["segment_start"].replace(tzinfo=UTC), line["kind"], line["meter_id"]): line
            for line in demo.ask(
                "SELECT l.* FROM money_line l JOIN money_document d ON d.id = l.document_id"
                f" WHERE l.sort = 'own' AND d.state <> 'draft' AND l.belongs_to = '{month.start}'"
            )
        }
        for consumer, lines in house.lines(month, units).items():
            for line in lines:
                stored = own.pop(line.place, None)
                if stored is None:
                    continue  # its consumer was not charged yet
                compared += 1
                assert Fraction(stored["amount"]) == line.amount
                if line.quantity is not None:
                    assert Fraction(stored["quantity"]) == line.quantity
                    days = sum((Fraction(n) for _, n in read(stored["by_day"])), Fraction(0))
                    assert days == line.quantity
                rule = house.rule(consumer, stored["revision_id"], month)
                assert (stored["treatment"], Fraction(stored["percent"])) == rule
        assert own == {}, month.start
    assert compared > 100


def check_documents(demo: Demo) -> None:
    """Each document comes to what its lines do, with tax by group, and has a number of its own."""
    documents = demo.ask("SELECT * FROM money_document WHERE state <> 'draft'")
    lines, groups = defaultdict(list), defaultdict(dict)
    for line in demo.ask("SELECT document_id, treatment, percent, amount FROM money_line"):
        told = (line["treatment"], Fraction(line["percent"]), Fraction(line["amount"]))
        lines[line["document_id"]].append(told)
    for group in demo.ask("SELECT * FROM document_tax"):
        groups[group["document_id"]][group["treatment"], Fraction(group["percent"])] = Fraction(group["tax"])
    for of in documents:
        tax, total = taxed(lines[of["id"]])
        assert groups[of["id"]] == tax
        assert Fraction(of["tax"]) == sum(tax.values(), Fraction(0)) and Fraction(of["total"]) == total
        assert Fraction(of["subtotal"]) == total - sum(tax.values(), Fraction(0)) == cents(Fraction(of["subtotal"]))
    numbers = sorted(of["number"] for of in documents if of["number"] and of["kind"] == "invoice")
    year = numbers[0].split("-")[1]
    if all(number.split("-")[1] == year for number in numbers):
        assert numbers == [f"INV-{year}-{n:05d}" for n in range(1, len(numbers) + 1)]
    assert {of["number"] is None for of in documents if of["state"] == "nothing due"} <= {True}


def check_accounts(demo: Demo) -> None:
    """Each account is its documents and the money that moved, and what is open comes of the rules of allocation."""
    documents = {of["id"]: of for of in demo.ask("SELECT * FROM money_document WHERE number IS NOT NULL")}
    entries = demo.ask("SELECT * FROM account_entry ORDER BY id")
    booked = {e["document_id"]: Fraction(e["amount"]) for e in entries if e["document_id"] is not None}
    assert booked == {at: Fraction(of["total"]) for at, of in documents.items() if of["total"]}
    accounts: dict[int, Account] = defaultdict(Account)
    for entry in entries:
        of = documents.get(entry["document_id"] or entry["invoice_id"], {})
        accounts[entry["consumer_id"]].book(entry, of.get("number", ""), of.get("due_on"))
    for account in accounts.values():
        for invoice, left in account.open.items():
            assert Fraction(documents[invoice]["open_amount"]) == left, documents[invoice]["number"]
    left = {e["id"]: Fraction(e["left"]) for e in entries if e["left"] is not None}
    assert left == {at: amount for account in accounts.values() for at, amount in account.credit.items()}
    banked = demo.ask("SELECT SUM(amount) AS came FROM bank_entry WHERE state IN ('matched', 'assigned')")
    of_bank = demo.ask(
        "SELECT SUM(IF(kind = 'refund', -amount, amount)) AS came FROM account_entry WHERE bank_entry_id IS NOT NULL"
    )
    assert banked == of_bank
    cards = demo.ask("SELECT SUM(amount) AS came FROM payment_attempt WHERE state = 'taken'")
    assert cards == demo.ask(
        "SELECT SUM(amount) AS came FROM account_entry WHERE kind = 'payment' AND paid_by = 'card'"
    )


DEFAULTS = {"receivable": "Assets:Receivable", "losses": "Expenses:Losses", "revenue": "Income:Revenue"}


def check_journal(demo: Demo) -> None:
    """The files of the months post what the documents and entries are, by product and by rule of tax."""
    names: dict[Any, str] = dict(DEFAULTS)
    for each in demo.ask("SELECT * FROM ledger WHERE name <> ''"):
        percent = None if each["percent"] is None else (each["treatment"], Fraction(each["percent"]))
        names[each["product_id"] or percent or each["role"]] = each["name"]
    by_hand: dict[str, Fraction] = defaultdict(Fraction)
    house = House(demo.ask)
    for entry in demo.ask("SELECT * FROM account_entry"):
        amount = Fraction(entry["amount"])
        sign = 1 if entry["kind"] in ("invoice", "refund", "returned payment") else -1
        by_hand[names["receivable"]] += sign * amount
        if entry["document_id"] is None:
            way = {"card": "card clearing", "transfer": "bank"}.get(entry["paid_by"], "losses")
            by_hand[names[way]] -= sign * amount
            continue
        for line in demo.ask(f"SELECT revision_id, amount FROM money_line WHERE document_id = {entry['document_id']}"):
            plan = house.revisions[line["revision_id"]]["plan_id"] if line["revision_id"] else None
            name = names.get(house.products[plan] if plan else "revenue", names["revenue"])
            by_hand[name] -= sign * Fraction(line["amount"])
        for group in demo.ask(f"SELECT * FROM document_tax WHERE document_id = {entry['document_id']}"):
            if group["tax"]:
                by_hand[names[group["treatment"], Fraction(group["percent"])]] -= sign * Fraction(group["tax"])
    posted: dict[str, Fraction] = defaultdict(Fraction)
    entries: set[str] = set()
    for month in demo.ask("SELECT start FROM journal_month"):
        file = b"".join(months.file(demo.finance, month["start"], "csv")).decode()
        for row in csv.DictReader(io.StringIO(file)):
            posted[row["account"]] += Fraction(row["debit"] or 0) - Fraction(row["credit"] or 0)
            entries.add(row["entry"])
            assert row["day"].startswith(f"{month['start']:%Y-%m}")
    assert {name: amount for name, amount in posted.items() if amount} == {
        name: amount for name, amount in by_hand.items() if amount
    }
    assert len(entries) == len(demo.ask("SELECT id FROM account_entry"))
    assert sum(posted.values(), Fraction(0)) == 0


def test_documents_accounts_and_the_journal_come_of_the_lines(demo: Demo) -> None:
    check_documents(demo)
    check_accounts(demo)
    check_journal(demo)


def check_handed_on(demo: Demo) -> None:
    """What was made to be handed on comes to what the calls come to, hour by hour."""
    revising.look(demo.ctx, everywhere=True)
    due = demo.ctx.now.replace(minute=0, second=0, microsecond=0) - timedelta(hours=demo.ctx.now.minute < 10)
    by_hand = {key: units for key, units in House(demo.ask).hours_outside().items() if key[0] < due and units}
    told: dict[tuple[datetime, int, int], Fraction] = defaultdict(Fraction)
    for row in demo.ask("SELECT * FROM handed_units"):
        hour = datetime.fromtimestamp(row["hour_us"] // 1_000_000, UTC)
        told[hour, row["subscription_id"], row["meter_id"]] += Fraction(row["units"])
    assert len(by_hand) > 50
    assert {key: units for key, units in told.items() if units} == by_hand


def test_what_is_handed_on_comes_of_the_calls(demo: Demo) -> None:
    check_handed_on(demo)
    (some,) = demo.ask("SELECT subscription_id FROM handed_units ORDER BY units DESC LIMIT 1")
    ids = [
        call["call_id"]
        for call in demo.ask(
            f"SELECT call_id FROM `call` WHERE subscription_id = {some['subscription_id']} AND verdict <> 'refused'"
            f" AND at_us >= {int(demo.months[-1].begins.timestamp()) * 1_000_000} ORDER BY at_us LIMIT 40"
        )
    ]
    striking.strike_out(demo.finance, Wanted(filter=CallFilter(), source="demo", ids=tuple(ids)), "Ours.", len(ids))
    check_handed_on(demo)
    assert demo.ask("SELECT MAX(revision) AS last FROM handed_units")[0]["last"] > 1


def take_in(demo: Demo, file: int) -> None:
    """Do what workers do with a file of usage, until there is nothing more to do."""
    while going_on.go_on(demo.ctx, file):
        pass


def test_what_comes_late_and_what_is_struck_out_comes_to_the_same_in_the_end(demo: Demo) -> None:
    """The last of these: it goes on into the next month."""
    finance, last = demo.finance, demo.months[-1]
    late = files.take(finance, "late.csv", io.BytesIO(demo.late_usage.encode()))
    take_in(demo, late.id)
    files.record(finance, late.id, leaving_out=True)
    take_in(demo, late.id)
    assert files.one(finance, late.id).recorded > 0
    (most,) = demo.ask(
        "SELECT d.id, d.consumer_id, l.subscription_id, l.meter_id FROM money_line l"
        " JOIN money_document d ON d.id = l.document_id WHERE l.kind = 'usage'"
        f" AND d.period_start = '{last.start}' AND d.state IN ('issued', 'paid', 'overdue')"
        " ORDER BY l.amount DESC LIMIT 1"
    )
    begins, ends = (int(at.timestamp()) * 1_000_000 for at in (last.begins, last.ends))
    ids = [
        call["call_id"]
        for call in demo.ask(
            f"SELECT call_id FROM `call` WHERE subscription_id = {most['subscription_id']} AND verdict <> 'refused'"
            f" AND JSON_EXISTS(units, '$.\"{most['meter_id']}\"') AND at_us >= {begins} AND at_us < {ends}"
            " ORDER BY at_us LIMIT 400"
        )
    ]
    wanted = Wanted(filter=CallFilter(), source="demo", ids=tuple(ids))
    striking.strike_out(finance, wanted, "They were ours.", len(ids))
    assert differing(demo) != []

    running = last.end
    moment = datetime.combine(Month(running, last.where).end, time(9), UTC) + timedelta(days=2)
    later = replace(finance, clock=lambda: moment)
    charging.run(later, running)
    charging.go_on(later, charging.begin_issuing(later, running).id)
    sorts = {row["sort"] for row in demo.ask("SELECT DISTINCT sort FROM money_line")}
    assert {"own", "late", "adjustment", "credit"} <= sorts
    credit_notes.issue_proposed(later, most["id"], "The calls were ours.")
    assert differing(demo) == []
    check_documents(demo)
    check_accounts(demo)
    check_journal(demo)
    assert audits.look_through(later).differences == []
