"""Whatever dies when: months are charged and issued, cards charged, statements read, usage handed on and the books
looked through while worker, web and database are killed again and again; nothing is there twice, and nothing missing.

`CALM_FAULT_KILLS` and `CALM_FAULT_SEED` make it longer, and another.
"""

from __future__ import annotations

import os
import random
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path
from threading import Event, Thread
from typing import Any

import httpx
import pytest
from sqlalchemy import Engine, text
from sqlalchemy.exc import DBAPIError

from calm_tariff.core.periods import month_of, month_step, zone
from calm_tariff.core.routes import Route
from calm_tariff.edge.processor import processor_of
from calm_tariff.services.admit import cards
from calm_tariff.services.base.context import Context, context_for
from calm_tariff.services.compose import products as compose
from calm_tariff.services.compose.products import ProductTyped
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.house import service_tokens
from calm_tariff.services.serve import history
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.handoff import mapping
from calm_tariff.services.settle.handoff import products as outside
from calm_tariff.standins.money.processing import CARDS
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.formats.camt_files import Sent, camt
from tests.office import Clock, Consumer, Office, terms
from tests.ports import free_port
from tests.processes import HERE, PATIENCE, Processes, wait_for
from tests.servers import RunDatabase

KILLS, SEED = int(os.environ.get("CALM_FAULT_KILLS", "50")), int(os.environ.get("CALM_FAULT_SEED", "17"))
TRANSFERRING, BY_CARD, OUTSIDE = 6, 6, 3
DOES = ("pays", "no cover twice", "slow")
RUNNING = month_of(datetime.now(zone("Europe/Lisbon")).date()).start
MONTHS = month_step(RUNNING, -2), month_step(RUNNING, -1)
WHO = {"worker": 3, "web": 2, "mariadb": 1}


@dataclass
class House:
    """An installation whose processes are killed, and how to work with it and look into it."""

    database: RunDatabase
    processes: Processes
    office: Office
    made: Engine
    token: str = ""
    calls: Counter[int] = field(default_factory=Counter)
    problems: list[BaseException] = field(default_factory=list)

    def ask(self, sql: str) -> list[Any]:
        with self.made.connect() as connection:
            return list(connection.execute(text(sql)).all())

    def request(self, method: str, path: str, **more: Any) -> httpx.Response:
        """What the API answers, once it answers: whoever asks again says so with the same key."""
        headers = {"Authorization": f"Bearer {self.token}", **more.pop("headers", {})}

        def answer() -> httpx.Response | None:
            got = httpx.request(method, f"{self.processes.web}/api/v1{path}", headers=headers, timeout=30, **more)
            return got if got.status_code < 500 and got.status_code != 429 else None

        found: httpx.Response = wait_for(answer)
        return found

    def read(self, path: str) -> Any:
        answer = self.request("GET", path)
        assert answer.status_code == 200, answer.text
        return answer.json()

    def do(self, path: str, key: str, **more: Any) -> httpx.Response:
        """Have something done once. A conflict says that it is being done, or was."""
        answer = self.request("POST", path, headers={"Idempotency-Key": key}, **more)
        assert answer.status_code < 300 or answer.status_code == 409, (path, answer.text)
        return answer

    def until(self, path: str, seen: Callable[[Any], bool]) -> None:
        wait_for(lambda: seen(self.read(path)), 3 * PATIENCE)

    def time_passes(self) -> None:
        """Claims of who died lapse, and pauses after failures are over, as they are after a minute or some."""
        now = "UTC_TIMESTAMP(6)"
        change = f"UPDATE job SET claimed_until = NULL, run_at = LEAST(run_at, {now})"
        with self.made.begin() as connection:
            connection.execute(text(f"{change} WHERE claimed_until IS NOT NULL OR last_error IS NOT NULL"))


def _sold_outside(office: Office) -> int:
    """A product beside the office's, with a plan of its own."""
    typed = ProductTyped(
        name="Buoys",
        description="Where they are.",
        terms_of_use="Name the source.",
        route=Route(otherwise="reviewed"),
        operations=list(office.operations.values()),
    )
    made = compose.create(office.manager, typed)
    head = plans.add(office.manager, made.id, "Lugger").plans[-1]
    tariff_sheet.save_draft(office.manager, head.id, head.edition, terms())
    office.plans["Lugger"] = head.id
    office.publish("keep", product=made.id)
    return made.id


def _give_card(house: House, ctx: Context, consumer: Consumer, does: str) -> None:
    processor = processor_of(house.processes.settings, hears=False)
    assert processor is not None
    own = ctx.acting(consumer.member)
    number = next(number for number, (kind, _) in CARDS.items() if kind == does)
    form = {"number": number, "ends": "12/39", "code": "123"}
    assert httpx.post(cards.begin(own, processor).address, data=form).status_code == 303
    assert cards.finish(own, processor) is not None


def _record(house: House, ctx: Context, product: int, dice: random.Random) -> None:
    """Calls of both months, so many of each consumer."""
    calls = []
    for n, consumer in enumerate(house.office.consumers):
        of = product if n >= TRANSFERRING + BY_CARD else house.office.product
        for month in MONTHS:
            many = dice.randint(20, 60)
            house.calls[consumer.subscription] += many
            for k in range(many):
                at = datetime(month.year, month.month, 3 + k % 25, 9, k % 60, tzinfo=UTC)
                calls.append(house.office.call(consumer, at, len(calls), product_id=of))
    history.take_in(ctx, calls)


@pytest.fixture
def house(tmp_path: Path) -> Iterator[House]:
    """Consumers that pay by transfer or by card, and some that are billed outside, two months ago and since."""
    database = RunDatabase(tmp_path / "mariadb", free_port())
    database.start()
    url = database.make_schema("calm_killed")
    upgrade(url)
    processes = Processes(tmp_path / "var", database.let_serve("calm_killed", metadata.tables))
    made = engine(url)
    began = datetime(MONTHS[0].year, MONTHS[0].month, 2, 9, tzinfo=UTC)
    settings = processes.settings
    ctx = context_for(made, clock=Clock(began), reach=HERE, sealing_secret=settings.value_secret)
    now = replace(ctx, clock=lambda: datetime.now(UTC))
    processes.start("standins")
    try:
        office = Office.open(ctx, sold={"Ketch": terms()})
        house = House(database, processes, office, made)
        product = _sold_outside(office)
        for n in range(2, TRANSFERRING + BY_CARD + OUTSIDE):
            plan = "Ketch" if n < TRANSFERRING + BY_CARD else "Lugger"
            office.consumers.append(office.admit(f"Consumer{n}", plan))
        for n in range(BY_CARD):
            _give_card(house, now, office.consumers[TRANSFERRING + n], DOES[n % len(DOES)])
        _record(house, now, product, random.Random(SEED))
        finance = now.acting(office.finance.actor)
        outside.begin(finance, product, MONTHS[0])
        mapping.set_plan_price(finance, office.plans["Lugger"], "tiles-regular")
        for consumer, known in zip(office.consumers[-OUTSIDE:], ("HL-2036", "HL-2041", "HL-2057"), strict=True):
            mapping.set_customer(finance, consumer.member.own_consumer, known)
        house.token = service_tokens.make_for_machine(now, "script", "finance")
        for command in ("web", "worker"):
            processes.start(command)
        yield house
    finally:
        processes.stop()
        made.dispose()
        database.stop()


def _charge(house: House, month: date) -> None:
    house.do(f"/periods/{month}/run", f"run-{month}")
    house.until(f"/periods/{month}", lambda p: p["runs"] and p["runs"][0]["state"] == "done" and p["drafts"])
    house.do(f"/periods/{month}/issue", f"issue-{month}")
    house.until(f"/periods/{month}", lambda p: p["state"] == "issued" and p["runs"][0]["state"] == "done")


def _collect(house: House, month: date) -> None:
    """Cards are charged until no attempt is under way; who pays by transfer pays, one of them less."""
    rows = house.read(f"/periods/{month}?rows=1000")["charges"]["rows"]
    sent = []
    names = {f"Consumer{n}" for n in range(TRANSFERRING, TRANSFERRING + BY_CARD)}
    for place, row in enumerate(rows):
        invoice = house.read(f"/invoices/{row['invoice_id']}")
        if row["consumer"] in names:
            house.do(f"/invoices/{row['invoice_id']}/payment-attempts", f"try-{row['invoice_id']}")
        else:
            amount = Decimal(invoice["summary"]["total"]) - (1 if place % 3 == 0 else 0)
            sent.append(Sent(f"B-{month}-{place}", f"{amount:.2f}", f"for {invoice['summary']['number']}"))
    house.do("/bank/statements", f"statement-{month}", json={"name": f"{month}.xml", "text": camt(*sent)})
    house.until(
        "/payment-attempts?rows=1000",
        lambda page: all(row["state"] not in ("planned", "tried") for row in page["rows"]),
    )


def _late(house: House, turn: int) -> None:
    """Another gateway sends calls of the first month, of somebody billed here and of somebody billed outside."""
    lines = ["source,id,time,application,operation,status,bytes_out"]
    for place in (0, TRANSFERRING + BY_CARD):
        consumer = house.office.consumers[place]
        (client,) = house.ask(f"SELECT client_id FROM application WHERE id = {consumer.application}")
        at = datetime(MONTHS[0].year, MONTHS[0].month, 20, 10, tzinfo=UTC) + timedelta(minutes=turn)
        lines += [
            f"edge,{turn}-{place}-{n},{at.isoformat()},{client[0]},GET /tides/v1/stations/x,200,1" for n in range(5)
        ]
        house.calls[consumer.subscription] += 5
    headers = {"Content-Type": "text/csv", "Idempotency-Key": f"late-{turn}"}
    answer = house.request("POST", "/usage", content="\n".join(lines), headers=headers)
    assert answer.status_code == 200, answer.text
    with house.made.begin() as connection:  # an hour goes by
        connection.execute(text("UPDATE job SET run_at = UTC_TIMESTAMP(6) WHERE kind = 'look what is to be handed on'"))


def _everything(house: House, enough: Event) -> None:
    """All that is done with money, month by month; then what can be done again and again, until enough died."""
    for turn, month in enumerate(MONTHS):
        _charge(house, month)
        _collect(house, month)
        _late(house, turn)
        house.do("/books/audits", f"audit-{month}")
    turn = len(MONTHS)
    while not enough.is_set():
        _late(house, turn)
        house.do("/books/audits", f"audit-{turn}")
        house.until("/books", lambda books: books["going"] is None)
        turn += 1


def _kill(house: House, victim: str, dice: random.Random) -> None:
    if victim == "mariadb":
        assert house.database.process is not None
        house.database.process.kill()
        house.database.process.wait()
        time.sleep(dice.uniform(0, 0.5))
        house.database.start()
    else:
        house.processes.kill(victim)
        house.processes.start(victim)
    wait_for(lambda: _tried(house.time_passes))


def _tried(work: Callable[[], None]) -> bool:
    try:
        work()
    except DBAPIError:
        return False
    return True


def test_whatever_is_killed_money_is_neither_doubled_nor_lost(house: House) -> None:
    dice, killed, enough = random.Random(SEED), Counter[str](), Event()

    def work() -> None:
        try:
            _everything(house, enough)
        except BaseException as error:
            house.problems.append(error)

    thread = Thread(target=work)
    thread.start()
    while thread.is_alive():
        time.sleep(dice.uniform(0.05, 0.7))
        if killed.total() >= KILLS:
            enough.set()
            thread.join(1)
            continue
        victim = dice.choices(list(WHO), list(WHO.values()))[0]
        _kill(house, victim, dice)
        killed[victim] += 1
    assert house.problems == []
    assert killed.total() >= KILLS, killed
    _settled(house)
    print(f"\nkilled {dict(killed)}")
    _documents(house)
    _money(house)
    _handed_on(house)
    found = audits.look_through(replace(house.office.finance, clock=lambda: datetime.now(UTC)))
    assert found.differences == []


def _settled(house: House) -> None:
    """What is still to be done is done."""

    def done() -> bool:
        house.time_passes()
        waiting = house.ask(
            "SELECT COUNT(*) FROM job WHERE last_error IS NOT NULL OR kind IN"
            " ('hand usage on', 'look through the books', 'take money from a card', 'go on with a charge run')"
        )
        states = house.ask("SELECT COUNT(*) FROM handed_units WHERE state <> 'accepted'")
        new = house.ask("SELECT COUNT(*) FROM bank_entry WHERE state = 'new'")
        return waiting[0][0] == states[0][0] == new[0][0] == 0

    with house.made.begin() as connection:
        connection.execute(text("UPDATE job SET run_at = UTC_TIMESTAMP(6) WHERE kind LIKE 'look what is%'"))
    wait_for(lambda: house.ask("SELECT 1 FROM job WHERE kind LIKE 'look what is%' AND run_at > UTC_TIMESTAMP(6)"))
    wait_for(done)


def _documents(house: House) -> None:
    """Each consumer that is charged here has one invoice of each month, the numbers run, and each was told once."""
    rows = house.ask("SELECT number, consumer_id, period_start, state FROM money_document WHERE kind = 'invoice'")
    charged = [c.member.own_consumer for c in house.office.consumers[: TRANSFERRING + BY_CARD]]
    assert sorted((row.consumer_id, row.period_start) for row in rows) == sorted(
        (consumer, month) for consumer in charged for month in MONTHS
    )
    assert all(row.state in ("issued", "overdue", "paid") for row in rows)
    numbers = sorted(row.number for row in rows)
    places = [int(number.rpartition("-")[2]) for number in numbers]
    assert places == list(range(1, len(rows) + 1))
    entries = house.ask("SELECT document_id, COUNT(*) AS n FROM account_entry WHERE kind = 'invoice' GROUP BY 1")
    assert [row.n for row in entries] == [1] * len(rows)
    told = house.ask("SELECT subject, COUNT(*) AS n FROM event WHERE type = 'invoice.issued' GROUP BY subject")
    assert sorted(row.subject for row in told) == numbers and {row.n for row in told} == {1}
    units = house.ask(
        "SELECT subscription_id, SUM(quantity) AS n FROM money_line WHERE kind = 'usage' GROUP BY subscription_id"
    )
    late = house.ask("SELECT subscription_id, COUNT(*) AS n FROM `call` WHERE outside_id IS NOT NULL GROUP BY 1")
    sent = {row.subscription_id: row.n for row in late}
    for row in units:
        whole = house.calls[row.subscription_id]
        assert whole - sent.get(row.subscription_id, 0) <= row.n <= whole


def _money(house: House) -> None:
    """What the cards gave and the bank told of is what was booked, each once."""
    charges = httpx.get(f"{house.processes.standins}/processor.json", timeout=60).json()["charges"]
    taken = Counter(each["about"] for each in charges if each["state"] == "done")
    assert set(taken.values()) <= {1}
    by_card = house.ask("SELECT SUM(amount) AS n FROM account_entry WHERE kind = 'payment' AND paid_by = 'card'")
    assert by_card[0].n == sum(Decimal(each["amount"]) for each in charges if each["state"] == "done") > 0
    tries = house.ask("SELECT invoice_id, COUNT(*) AS n FROM payment_attempt GROUP BY invoice_id")
    assert {row.n for row in tries} == {1} and len(tries) == BY_CARD * len(MONTHS)
    told = house.ask("SELECT state, COUNT(*) AS n, SUM(amount) AS amount FROM bank_entry GROUP BY state")
    assert sum(row.n for row in told) == TRANSFERRING * len(MONTHS)
    matched = next(row for row in told if row.state == "matched")
    booked = house.ask("SELECT COUNT(*), SUM(amount) FROM account_entry WHERE bank_entry_id IS NOT NULL")
    assert [tuple(row) for row in booked] == [(matched.n, matched.amount)]


def _handed_on(house: House) -> None:
    """The outside has each unit of who is billed there once, and nobody else's."""
    events = httpx.get(f"{house.processes.standins}/billing.json", timeout=60).json()["events"]
    found: Counter[int] = Counter()
    for event_id, _, _, units in events:
        found[int(event_id.split("/")[1])] += int(Decimal(units))
    assert found == {c.subscription: house.calls[c.subscription] for c in house.office.consumers[-OUTSIDE:]}
    kept = house.ask("SELECT COUNT(*) AS n FROM handed_units")
    assert kept[0].n == len(events)
