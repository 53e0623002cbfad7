"""Lists a page at a time: in any order that is offered, each row once, however long the list is."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

from sqlalchemy import ColumnElement, SQLColumnExpression, and_, func, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid

T = TypeVar("T")
ROWS = 50


@dataclass(frozen=True, slots=True)
class PageQuery:
    """Which page of a list: `words` that its names hold, the name of an order, downwards or not, and `cursor`, which
    is what the page before said came `next`."""

    words: str = ""
    sort: str = ""
    down: bool = False
    cursor: str | None = None
    rows: int = ROWS


@dataclass(frozen=True, slots=True)
class Page(Generic[T]):
    """Rows of one page; `next` is the cursor of the page after, `total` counts the rows of all pages."""

    rows: list[T]
    next: str | None
    total: int


def page(
    session: Session,
    query: Any,
    key: SQLColumnExpression[int],
    orders: Mapping[str, SQLColumnExpression[Any]],
    wanted: PageQuery,
) -> Page[Any]:
    """A page of what `query` finds, in the order `wanted` names, or the first that is offered.

    `key` tells rows apart and settles ties; an order's values must not be NULL. The cursor is the key of a page's last
    row: rows that come or go meanwhile neither repeat others nor skip them. Raises `Invalid` for an order that is not
    offered or a cursor that names no row.
    """
    name = wanted.sort or next(iter(orders))
    if name not in orders:
        raise Invalid(f"must be one of {', '.join(orders)}", "sort")
    by = orders[name]
    keys = query.with_only_columns(key, maintain_column_froms=True).order_by(None).subquery()
    total = session.scalar(select(func.count()).select_from(keys)) or 0
    ordered = query.order_by(*((c.desc() if wanted.down else c.asc()) for c in (by, key)))
    if wanted.cursor:
        ordered = ordered.where(_after(session, query, key, by, wanted))
    found = list(session.execute(ordered.limit(wanted.rows + 1).add_columns(key)))
    shown = [row[0] if len(row) == 2 else row[:-1] for row in found[: wanted.rows]]
    more = len(found) > wanted.rows
    return Page(shown, str(found[wanted.rows - 1][-1]) if more else None, total)


def _after(
    session: Session, query: Any, key: SQLColumnExpression[int], by: SQLColumnExpression[Any], wanted: PageQuery
) -> ColumnElement[bool]:
    cursor = wanted.cursor or ""
    if not (cursor.isascii() and cursor.isdigit() and len(cursor) < 19):
        raise Invalid("is no cursor of this list", "cursor")
    last = session.execute(query.with_only_columns(by, maintain_column_froms=True).where(key == int(cursor))).first()
    if last is None:
        raise Invalid("names a row that is no longer in this list; begin again without it", "cursor")
    (value,) = last
    beyond = by < value if wanted.down else by > value
    return or_(beyond, and_(by == value, key < int(cursor) if wanted.down else key > int(cursor)))


def listed(rows: Sequence[T], wanted: PageQuery, orders: Mapping[str, Callable[[T], Any]]) -> Page[T]:
    """A page of rows that had to be worked out before they could be put in order; the cursor is a place in it.

    The first order offered also says what `words` are looked for in. Raises `Invalid` as `page` does.
    """
    first = next(iter(orders))
    name = wanted.sort or first
    if name not in orders:
        raise Invalid(f"must be one of {', '.join(orders)}", "sort")
    cursor = wanted.cursor or "0"
    if not (cursor.isascii() and cursor.isdigit() and len(cursor) < 19):
        raise Invalid("is no cursor of this list", "cursor")
    sought = wanted.words.lower()
    found = [row for row in rows if sought in str(orders[first](row)).lower()] if sought else rows
    ordered = sorted(found, key=orders[name], reverse=wanted.down)
    start, end = int(cursor), int(cursor) + wanted.rows
    return Page(ordered[start:end], str(end) if end < len(ordered) else None, len(ordered))
