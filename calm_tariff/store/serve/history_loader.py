"""Loading a whole history of calls at once, for an installation that has none yet.

While the server takes in one file of rows the next is written.
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
from sqlalchemy import Connection, Engine, text

from calm_tariff.store.serve.call_writer import SHARED, Record, Sums, add, last_uses, note_uses
from calm_tariff.store.serve.file_loading import NULL, cell, send, sending
from calm_tariff.store.serve.usage import Call

BATCH = 10_000


def load(engine: Engine, calls: Iterable[Record], told: Callable[[int], None] = lambda done: None) -> int:
    """Load calls with their hourly sums in one transaction; returns how many. All of them, or none: raises `Invalid`
    for a call that is there twice or that its columns do not hold."""
    found = iter(calls)
    sums = Sums()
    uses: dict[int, Record] = {}
    done = 0
    with (
        tempfile.TemporaryDirectory() as folder,
        sending(engine) as by_file,
        by_file.begin() as connection,
        ThreadPoolExecutor(1) as sender,
    ):
        under_way: Future[None] | None = None
        while batch := list(islice(found, BATCH)):
            path = Path(folder) / f"calls-{done}"
            _write(path, Call, batch)
            sums.add(batch)
            for use in last_uses(batch):
                uses[use["key_id"]] = max(uses.get(use["key_id"], use), use, key=itemgetter("last_at_us"))
            if under_way is not None:
                under_way.result()
            under_way = sender.submit(_send, connection, path, Call)
            done += len(batch)
            told(done)
        if under_way is not None:
            under_way.result()
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


def _json(value: Any) -> str:
    return orjson.dumps(value).decode().replace("\\", "\\\\")


# By type, because a history has millions of fields.
_FIELDS: dict[type, Callable[[Any], str]] = {
    type(None): lambda value: NULL,
    str: cell,
    int: str,
    Decimal: str,
    list: _json,
    dict: _json,
}


def _send(connection: Connection, path: Path, table: Any) -> None:
    send(connection, path, table, _columns(table))
    path.unlink()
