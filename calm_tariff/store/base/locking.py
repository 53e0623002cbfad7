"""Holding rows until the transaction ends, in one order everywhere, so that no two transactions wait for each other.

MariaDB knows no `FOR UPDATE OF`: a locking read that joins holds every row it joins. So a row is locked by itself, by
its id, and read anew; what belongs to it is read afterwards, without a lock.

The order is that of `ORDER`. Rows of one table are locked from the smallest id up.
"""

from __future__ import annotations

import logging
from collections.abc import Collection
from typing import Any, TypeVar

from sqlalchemy import inspect, select
from sqlalchemy.orm import Session

from calm_tariff.store.base.columns import Base

log = logging.getLogger("calm_tariff.store")

# Who holds a stamp first keeps shippers away; then from what is sold down to who buys it, and to what was charged.
ORDER = (
    "import",
    "import_row",
    "usage_file",
    "usage_source",
    "strike",
    "stamp",
    "answered",
    "bank_entry",
    "document_reading",
    "api_version",
    "operation",
    "release_note",
    "house_limits",
    "outside_issuer",
    "product",
    "plan",
    "meter",
    "consumer_group",
    "portal",
    "provider",
    "consumer",
    "member",
    "member_invitation",
    "person_invitation",
    "awaited_sign_up",
    "looked_as",
    "password_reset",
    "address_change",
    "identity_provider",
    "house_identity_provider",
    "outside_sign_in",
    "member_identity",
    "person_identity",
    "person",
    "second_factor",
    "passkey",
    "service_token",
    "event_endpoint",
    "notice_kind",
    "question",
    "answer",
    "post_report",
    "card_page",
    "payment_card",
    "application",
    "access_request",
    "subscription",
    "subscription_override",
    "api_key",
    "charge_run",
    "bundle",
    "books_audit",
    "adjustment",
    "write_off",
    "payment_attempt",
    "card_refund",
    "money_document",
    "number_series",
    "ledger",
    "journal_month",
    "handed_batch",
    "handed_units",
    "mail",
    "job",
    "record_end",
)
_RANK = {name: rank for rank, name in enumerate(ORDER)}
_HELD = "held"
# Tests hold the code to the order; while serving, a row locked out of turn is logged.
strict = False

T = TypeVar("T", bound=Base)


def locked(session: Session, table: type[T], key: Any) -> T | None:
    """The row of a key, held until the transaction ends and as it is now; None where there is none."""
    return session.get(table, key, populate_existing=True) if hold(session, table, key) else None


def hold(session: Session, table: type[Base], key: Any) -> bool:
    """Hold the row of a key without reading it; whether there is one."""
    in_turn(session, table.__tablename__, [key])
    (column,) = inspect(table).primary_key
    return session.scalar(select(column).where(column == key).with_for_update()) is not None


def shared(session: Session, table: type[T], key: Any) -> T | None:
    """The row of a key as it is now, which others may read and nobody may change until the transaction ends."""
    in_turn(session, table.__tablename__, [key])
    return session.get(table, key, populate_existing=True, with_for_update={"read": True})


def hold_all(session: Session, table: type[Base], keys: Collection[int]) -> None:
    """Hold the rows of these ids that are there, likewise, without reading them."""
    in_turn(session, table.__tablename__, keys)
    (column,) = inspect(table).primary_key
    session.execute(select(column).where(column.in_(keys)).order_by(column).with_for_update()).all()


def all_locked(session: Session, table: type[T], keys: Collection[int]) -> list[T]:
    """The rows of these ids that are there, likewise, from the smallest id up."""
    hold_all(session, table, keys)
    (column,) = inspect(table).primary_key
    query = select(table).where(column.in_(keys)).order_by(column)
    return list(session.scalars(query.execution_options(populate_existing=True)))


def in_turn(session: Session, table: str, keys: Collection[Any]) -> None:
    """Say that rows of a table are about to be held. Raises `LockedOutOfTurn` in tests, where others further on in the
    order are held already and these are not."""
    held: set[tuple[int, Any]] = session.info.setdefault(_HELD, set())
    rank = _RANK[table]
    new = {(rank, key) for key in keys} - held
    last = max(held, key=lambda each: each[0])[0] if held else rank
    if new and rank < last:
        words = f"{table} is locked after {ORDER[last]}"
        if strict:
            raise LockedOutOfTurn(words)
        log.error("%s, against the order of locks", words)
    held |= new


class LockedOutOfTurn(AssertionError):
    """A row was locked against the order."""
