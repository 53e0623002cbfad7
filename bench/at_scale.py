"""Screens on the demo's data and on a hundred times as much: a hundred of every consumer, with all their calls."""

from __future__ import annotations

import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from statistics import median

import httpx
import orjson
from sqlalchemy import Column, Engine, Table, func, select, text

from bench.documents import document
from calm_tariff.core.periods import DAY
from calm_tariff.core.routes import Route
from calm_tariff.demo.load import found, load
from calm_tariff.launch.database import Database
from calm_tariff.services.admit import carrying_over
from calm_tariff.services.base.context import Actor, Context, context_for
from calm_tariff.services.compose import products
from calm_tariff.services.compose.apis import documents, operations
from calm_tariff.services.compose.apis.versions import ApiTyped
from calm_tariff.services.compose.products import ProductTyped
from calm_tariff.services.compose.sheet import plans, tariff_sheet
from calm_tariff.services.settle.periods import reckoning
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.serve.usage import Call
from calm_tariff.store.tables import metadata
from tests.ports import free_port
from tests.processes import HERE, Processes

TIMES = 100
# A product as wide as documents come, and how many operations that is.
WIDE, WIDELY = "Wide", 1000
APART = 1_000_000  # how far the ids of one copy lie from those of the next
ROUNDS = 5
# What a consumer brings along, parents first, and the columns that name one of these by its id.
COPIED = (
    "consumer",
    "member",
    "consumer_in_group",
    "terms_accepted",
    "application",
    "api_key",
    "access_request",
    "request_message",
    "subscription",
    "stay",
    "trial_had",
    "pause",
    "adjustment",
    "money_document",
    "money_line",
    "document_tax",
    "draft_review",
    "account_entry",
    "allocation",
    "posting",
    "reminder",
    "payment_pause",
    "payment_card",
    "payment_attempt",
    "hourly_usage",
    "hourly_outcomes",
    "hourly_verdicts",
    "daily_usage",
    "daily_verdicts",
    "mail",
    "notice",
    "audit_entry",
    "event",
)
SHIFTED = {
    "consumer_id",
    "member_id",
    "application_id",
    "key_id",
    "request_id",
    "subscription_id",
    "stay_id",
    "invoice_id",
    "document_id",
    "corrects_id",
    "origin_id",
    "adjustment_id",
    "returned_id",
    "by_id",
    "card_id",
    "subject_id",
    "audience_id",
    "entry_id",
}
# What names one row among all in words.
SPOKEN = {("application", "client_id"), ("money_document", "number"), ("payment_attempt", "charge")}
REPORT = Path(__file__).parents[1] / "docs" / "scale.md"
OPTIONS = (
    "--innodb-flush-log-at-trx-commit=0",
    "--skip-innodb-doublewrite",
    "--innodb-buffer-pool-size=2G",
    "--innodb-log-file-size=2G",
)


def measure(folder: Path | None = None) -> dict[str, dict[str, float]]:
    """Median milliseconds of what each screen reads, with the demo's data and a hundred times as much, one after the
    other. A folder is kept, and one that is there already is measured again."""
    with tempfile.TemporaryDirectory() as other:
        home = folder or Path(other)
        database = Database(home / "mariadb", free_port(), OPTIONS)
        database.start()
        try:
            urls = {size: database.make_schema(f"calm_{size}") for size in ("demo", "hundredfold")}
            for size, url in urls.items():
                upgrade(url)
                _fill(home, size, url)
            return {size: screens(home, url) for size, url in urls.items()}
        finally:
            database.stop()


def _fill(home: Path, size: str, url: str) -> None:
    if (home / size).exists():
        return
    ctx = context_for(engine(url), reach=HERE, sealing_secret="for the bench alone")
    found(ctx)
    load(ctx, Processes(home, url, demo=True).standins)
    sell_widely(ctx)
    if size == "hundredfold":
        multiply(engine(url), lambda words: print(words, file=sys.stderr, flush=True))
    reckoning.look(ctx)  # as the worker does every five minutes
    (home / size).touch()


def sell_widely(ctx: Context) -> None:
    """A product of a thousand operations, as their document describes them."""
    manager = ctx.acting(Actor("the bench", frozenset({"product manager"})))
    reading = documents.begin(manager, "wide.json", orjson.dumps(document()).decode())
    documents.read(manager, reading.id)
    typed = ApiTyped(WIDE, "v1", "", "/wide/v1", "http://127.0.0.1:9/wide")
    api = documents.apply_as_new(manager, reading.id, typed, agreed=True)
    sold = [o.id for o in operations.page(manager, api.id, limit=2000).operations]
    product = products.create(manager, ProductTyped(WIDE, "", "", Route(otherwise="open"), sold))
    head = plans.add(manager, product.id, "Skiff").plans[-1]
    sheet = tariff_sheet.save_draft(manager, head.id, head.edition, {"limits": [], "pricing": {"prices": []}})
    carrying_over.publish(manager, product.id, {plan.id: plan.edition for plan in sheet.plans}, "keep")


def multiply(to: Engine, say: Callable[[str], None], times: int = TIMES) -> None:
    """Have every consumer so many times, with everything of theirs: copies of the first beside it."""
    multiply_consumers(to, times)
    multiply_calls(to, say, times)


def multiply_consumers(to: Engine, times: int) -> None:
    """All of theirs but their calls."""
    with to.begin() as connection:
        # A row may name one of its own table that is copied after it.
        connection.execute(text("SET SESSION foreign_key_checks = 0"))
        for name in COPIED:
            connection.execute(text(_copy(metadata.tables[name], times)))
        connection.execute(text("SET SESSION foreign_key_checks = 1"))
        connection.execute(text(f"ANALYZE TABLE {', '.join(COPIED)}"))


def multiply_calls(to: Engine, say: Callable[[str], None], times: int) -> None:
    """Their calls, day by day."""
    with to.connect() as connection:
        first, last = connection.execute(select(func.min(Call.at_us), func.max(Call.at_us))).one()
    for start in range(first // DAY * DAY, last + 1, DAY):
        with to.begin() as connection:
            where = f"WHERE c.at_us >= {start} AND c.at_us < {start + DAY} ORDER BY c.call_id, s.seq"
            connection.execute(text(_copy(metadata.tables["call"], times, where)))
        say(f"{(start - first) // DAY + 1} of {(last - first) // DAY + 1} days multiplied")
    with to.begin() as connection:
        connection.execute(text("ANALYZE TABLE `call`"))


def _copy(table: Table, times: int, where: str = "") -> str:
    kept = [c for c in table.columns if c.computed is None]
    columns = ", ".join(f"`{c.name}`" for c in kept)
    values = ", ".join(_copied(table, c) for c in kept)
    return (
        f"INSERT INTO `{table.name}` ({columns}) SELECT {values} FROM `{table.name}` c "
        f"JOIN seq_1_to_{times - 1} s {where}"
    )


def _copied(table: Table, column: Column[object]) -> str:
    name = f"c.`{column.name}`"
    if column.name in SHIFTED or (column.name == "id" and column.primary_key):
        return f"IF({name} = 0, 0, {name} + s.seq * {APART})"
    if column.name == "call_id":
        return f"CONCAT(LEFT({name}, 10), 'U', LPAD(s.seq, 4, '0'), SUBSTR({name}, 16))"  # no id of ours has a U
    if column.name == "key_hash":
        return f"SHA2(CONCAT({name}, s.seq), 256)"
    if column.name in ("email", "recipient"):
        return f"CONCAT(s.seq, '.', {name})"
    if (table.name, column.name) == ("payment_attempt", "key"):
        return f"SHA1(CONCAT({name}, s.seq))"
    if (table.name, column.name) in SPOKEN:
        return f"CONCAT({name}, '-', s.seq)"
    if column.name in ("look", "shape"):
        return f"SHA2(CONCAT({name}, s.seq), 256)"
    if column.name == "name" and table.name == "consumer":
        return f"CONCAT({name}, ' ', s.seq)"
    return name


def screens(home: Path, url: str) -> dict[str, float]:
    """Median milliseconds of each thing a screen asks for."""
    processes = Processes(home, url, demo=True)
    processes.start("web")
    try:
        with httpx.Client(base_url=f"{processes.web}/api/v1", timeout=120, headers={"origin": processes.web}) as client:
            client.post("/session/demo", json={"email": "ines@larkmouth.example"}).raise_for_status()
            took = {name: _milliseconds(client, path) for name, path in addresses(client).items()}
            client.base_url = f"{processes.web}/portal/api/v1"
            client.post("/session/demo", json={"email": "leonor@gannet.example"}).raise_for_status()
            return took | {name: _milliseconds(client, path) for name, path in members_addresses(client).items()}
    finally:
        processes.stop()


def addresses(client: httpx.Client) -> dict[str, str]:
    """What the main screens ask for: of the newest call, of one consumer, of the running and the last month."""
    call = client.get("/calls").json()["rows"][0]
    running, last = (p["start"] for p in client.get("/periods").json()[:2])
    consumer = call["consumer_id"]
    waiting = client.get("/requests").json()["rows"][0]["id"]
    course = client.get(f"/consumers/{consumer}").json()["courses"][0]["subscription_id"]
    plain = (
        "/today",
        "/counts",
        "/apis",
        "/meters",
        "/products",
        "/requests",
        "/requests?decided=true",
        "/consumers",
        "/consumers?sort=refused&down=true",
        "/consumers?words=gannet",
        "/calls",
        "/calls?verdict=refused",
        "/traffic",
        "/allowances",
        "/periods",
        "/accounts",
        "/accounts?words=gannet",
        "/payment-attempts",
        "/bank/waiting",
        "/books",
        "/handoff",
        "/record",
        "/record?words=declined",
        "/letters",
        "/letters?words=gannet",
        "/notice-kinds",
    )
    return {
        **{path: path for path in plain},
        "/requests/ID": f"/requests/{waiting}",
        "/subscriptions/ID/history": f"/subscriptions/{course}/history",
        "/consumers/ID": f"/consumers/{consumer}",
        "/consumers/ID/closing": f"/consumers/{consumer}/closing",
        "/consumers/ID/erasing": f"/consumers/{consumer}/erasing",
        "/calls?consumer=ID": f"/calls?consumer={consumer}",
        "/calls/ID/receipt": f"/calls/{call['call_id']}/receipt",
        "/accounts/ID": f"/accounts/{consumer}",
        "/periods/LAST": f"/periods/{last}",
        "/periods/LAST/drafts": f"/periods/{last}/drafts",
        "/periods/RUNNING": f"/periods/{running}",
    }


def members_addresses(client: httpx.Client) -> dict[str, str]:
    """What the portal's pages ask for: a product's, the reference of a thousand operations, and a member's use."""
    wide = client.get("/products/wide/operations").json()
    assert len(wide) == WIDELY, len(wide)
    plain = (
        "/products",
        "/products/harbour-data",
        "/products/harbour-data/estimate?use=forecast_calls:40000&at_once=5",
        "/products/harbour-data/answering",
        "/products/harbour-data/operations",
        "/products/wide/operations",
        "/operations?words=high+water",
        "/usage",
        "/allowances",
        "/running-month",
        "/calls",
    )
    return {
        **{f"portal {path.partition('?')[0]}": path for path in plain},
        "portal /products/wide/operations/ID": f"/products/wide/operations/{wide[WIDELY // 2]['id']}",
    }


def _milliseconds(client: httpx.Client, path: str) -> float:
    took = []
    for _ in range(ROUNDS):
        begun = time.perf_counter()
        client.get(path).raise_for_status()
        took.append((time.perf_counter() - begun) * 1000)
        if took[-1] > 5_000:
            break  # too long, however often it is asked
    return median(took)


def main(folder: Path | None) -> None:
    """Measure, and put the figures into docs/scale.md."""
    measured = measure(folder)
    rows = [
        f"| `{name}` | {measured['demo'][name]:,.0f} ms | {milliseconds:,.0f} ms |"
        for name, milliseconds in measured["hundredfold"].items()
    ]
    begin, end = "<!-- measured: begin -->", "<!-- measured: end -->"
    text = REPORT.read_text()
    table = "\n".join(["| what a screen asks for | demo | hundredfold |", "|---|---|---|", *rows])
    REPORT.write_text(f"{text.partition(begin)[0]}{begin}\n{table}\n{end}{text.partition(end)[2]}")


if __name__ == "__main__":
    main(Path(sys.argv[1]) if len(sys.argv) > 1 else None)
