"""Sending rows to the server as text files (LOAD DATA LOCAL), a quarter of the price of statements."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, text

from calm_tariff.core.errors import Invalid

NULL = "\\N"
_ESCAPES = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})


@contextmanager
def sending(engine: Engine) -> Iterator[Engine]:
    """An engine whose connections may send files, for as long as it takes. Of whoever loads alone: whoever answers such
    a connection could ask for any file that this process can read."""
    made = create_engine(
        engine.url,
        pool_size=1,
        max_overflow=1,
        hide_parameters=True,
        isolation_level="READ COMMITTED",
        connect_args={"charset": "utf8mb4", "local_infile": True},
    )
    try:
        yield made
    finally:
        made.dispose()


def cell(value: str) -> str:
    """A text as it stands in such a file."""
    return value.translate(_ESCAPES) if "\\" in value or "\t" in value or "\n" in value or "\r" in value else value


def send(
    connection: Connection,
    path: Path,
    table: Any,
    columns: Sequence[str],
    others: Mapping[str, int | str] | None = None,
) -> None:
    """Load a file into some columns of a table, with the same in others for every row. Raises `Invalid` for a row that
    the table does not take as it is."""
    names = ", ".join(f"`{name}`" for name in columns)
    same = ", ".join(f"`{name}` = :{name}" for name in others or {})
    connection.execute(
        text(
            f"LOAD DATA LOCAL INFILE :path INTO TABLE `{table.__tablename__}` CHARACTER SET utf8mb4 ({names})"
            + (f" SET {same}" if same else "")
        ),
        {"path": str(path), **(others or {})},
    )
    # Of a local file the server takes what it can: a second row of the same key is passed over, a long text is cut.
    warning = connection.execute(text("SHOW WARNINGS LIMIT 1")).first()
    if warning is not None:
        raise Invalid(f"the database does not take a row of {table.__tablename__} as it is: {warning.Message}", "calls")
