"""Loading a whole history of calls at once, for an installation that has none yet.

Rows go to the server as text files (LOAD DATA LOCAL), a quarter of the price of statements. While the
server takes in one file the next is written.
"""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from decimal import Decimal
from itertools import islice
from operator import itemgetter
from pathlib import Path
from typing import Any

import orjson
from sqlalchemy import Connection, Engine, create_engine, text
from sqlalchemy.pool import NullPool

from calm_tariff.core.errors import Invalid
from calm_tariff.store.serve.call_writer import SHARED, Record, Sums, add, last_uses, note_uses
from calm_tariff.store.serve.usage import Call

BATCH = 10_000
_ESCAPES = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


def load(engine: Engine, calls: Iterable[Record], told: Callable[[int], None] = lambda done: None) -> int:
    """Load calls with their hourly sums in one transaction; returns how many. All of them, or none: raises `Invalid`
    for a call that is there twice or that its columns do not hold."""
    found = iter(calls)
    sums = Sums()
    uses: dict[int, Record] = {}
    done = 0
    # Of this connection alone: whoever answers it could ask for any file this process can read.
    local = create_engine(engine.url, poolclass=NullPool, connect_args={"charset": "utf8mb4", "local_infile": True})
    with tempfile.TemporaryDirectory() as folder, local.begin() as connection, ThreadPoolExecutor(1) as sender:
        sending: Future[None] | None = None
        while batch := list(islice(found, BATCH)):
            path = Path(folder) / f"calls-{done}"
            _write(path, Call, batch)
            sums.add(batch)
            for use in last_uses(batch):
                uses[use["key_id"]] = max(uses.get(use["key_id"], use), use, key=itemgetter("last_at_us"))
            if sending is not None:
                sending.result()
            sending = sender.submit(_send, connection, path, Call)
            done += len(batch)
            told(done)
        if sending is not None:
            sending.result()
        shared = []
        for table, rows, summed in sums.rows():
            if table in SHARED:
                shared.append((table, rows, summed))
                continue
            path = Path(folder) / table.__tablename__
            _write(path, table, rows)
            _send(connection, path, table)
        # What is no consumer's alone others load, too: one after the other, or they would wait for each other in turn.
        connection.execute(text("SELECT GET_LOCK('calm_tariff_history', 3600)"))  # until the connection ends
        for table, rows, summed in shared:
            add(connection, table, rows, summed)
        note_uses(connection, [uses[key] for key in sorted(uses)])
    return done


def _columns(table: Any) -> list[str]:
    return [column.name for column in table.__table__.columns]


def _write(path: Path, table: Any, rows: Sequence[Record]) -> None:
    values = itemgetter(*_columns(table))
    kinds = _FIELDS
    lines = ["\t".join([kinds[type(value)](value) for value in values(row)]) for row in rows]
    path.write_text("\n".join([*lines, ""]), encoding="utf-8")


def _text(value: str) -> str:
    return value.translate(_ESCAPES) if "\\" in value or "\t" in value or "\n" in value else value


def _json(value: Any) -> str:
    return orjson.dumps(value).decode().replace("\\", "\\\\")


# By type, because a history has millions of fields.
_FIELDS: dict[type, Callable[[Any], str]] = {
    type(None): lambda value: "\\N",
    str: _text,
    int: str,
    Decimal: str,
    list: _json,
    dict: _json,
}


def _send(connection: Connection, path: Path, table: Any) -> None:
    names = ", ".join(f"`{name}`" for name in _columns(table))
    connection.execute(
        text(f"LOAD DATA LOCAL INFILE :path INTO TABLE `{table.__tablename__}` CHARACTER SET utf8mb4 ({names})"),
        {"path": str(path)},
    )
    # Of a local file the server takes what it can: a second row of the same key is passed over, a long text is cut.
    warning = connection.execute(text("SHOW WARNINGS LIMIT 1")).first()
    if warning is not None:
        raise Invalid(f"the database does not take a row of {table.__tablename__} as it is: {warning.Message}", "calls")
    path.unlink()
