"""The engine that reaches the database."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session

# The longest statement: an OpenAPI document of 20 MB with every character escaped.
PACKET = 64 * 1024 * 1024
# The first says how the next transaction is isolated, and that one only.
_AT_ONE_MOMENT = (
    text("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ"),
    text("START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY"),
)


def engine(url: str, **options: Any) -> Engine:
    """An engine for a MariaDB address; connections are checked before use, unless `pool_pre_ping` says otherwise, so a
    restart is survived."""
    options.setdefault("pool_pre_ping", True)
    return create_engine(
        url,
        hide_parameters=True,  # a message of the database's may hold what was to be kept: hashes, names
        pool_recycle=1800,
        isolation_level="READ COMMITTED",
        connect_args={
            "connect_timeout": 5,
            "charset": "utf8mb4",
            "local_infile": False,
            "max_allowed_packet": PACKET,
        },
        **options,
    )


def see_one_moment(session: Session) -> None:
    """Have a session, until its transaction ends, see the database as it is now, and change nothing. It must not have
    asked anything before."""
    for statement in _AT_ONE_MOMENT:
        session.execute(statement)
