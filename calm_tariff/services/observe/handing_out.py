"""Handing out all data of a consumer, and of those merged into it: its own rows, table by table, as JSON Lines in a ZIP
archive, without what lets somebody in and without what the provider's people said among themselves."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from datetime import datetime
from decimal import Decimal
from typing import IO, Any, cast

from sqlalchemy import LargeBinary, Table, or_, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import NotFound
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.admit import merged
from calm_tariff.store.admit.consumers import Consumer, Member
from calm_tariff.store.base.record import Mail
from calm_tariff.store.observe.own_rows import HIDDEN, OWN

HANDERS = ("product manager", "owner")
PART = 1000
ABOUT = "about.json"
_LETTER = ("id", "recipient", "subject", "body", "created_at", "sent_at")


def begin(ctx: Context, consumer_id: int) -> Iterator[bytes]:
    """The archive in parts, made while they are read; that it is handed out stands on the record. Raises `NotFound`."""
    ctx.actor.must_be(*HANDERS)
    with ctx.transaction() as session:
        consumer = session.get(Consumer, consumer_id)
        if consumer is None:
            raise NotFound("there is no such consumer", str(consumer_id))
        auditing.note(session, ctx, "handed out all data of a consumer", ("consumer", consumer.id, consumer.name))
    return _parts(ctx, consumer_id)


def _parts(ctx: Context, consumer_id: int) -> Iterator[bytes]:
    made = _Made()
    with ctx.reading() as session, zipfile.ZipFile(cast(IO[bytes], made), "w", zipfile.ZIP_DEFLATED) as archive:
        rows: dict[str, int] = {}
        for name, lines in _files(session, consumer_id):
            rows[name] = 0
            with archive.open(f"{name}.jsonl", "w", force_zip64=True) as file:
                for part, count in lines:
                    file.write(part)
                    rows[name] += count
                    yield made.taken()
            yield made.taken()
        archive.writestr(ABOUT, json.dumps(_about(session, ctx, consumer_id, rows), indent=2, ensure_ascii=False))
    yield made.taken()


def _about(session: Session, ctx: Context, consumer_id: int, rows: dict[str, int]) -> dict[str, Any]:
    return {
        "consumer": session.get_one(Consumer, consumer_id).name,
        "handed_out_by": provider_of(session).name,
        "at": ctx.now.isoformat(),
        "instants": "fields that end in _us are microseconds since 1970, UTC",
        "rows": {f"{name}.jsonl": count for name, count in rows.items()},
    }


def _files(session: Session, consumer_id: int) -> Iterator[tuple[str, Iterator[tuple[bytes, int]]]]:
    whose = merged.with_merged(session, consumer_id)
    for own in OWN:
        if own.handed_out is not None:
            query = select(*_shown(own.table)).where(or_(*map(own.of_consumer, whose)), own.handed_out)
            yield own.table.name, _lines(session, query.order_by(*own.table.primary_key))
    emails = select(Member.email).where(Member.consumer_id.in_(whose))
    letters = select(*(Mail.__table__.c[name] for name in _LETTER)).where(Mail.recipient.in_(emails))
    yield "mail", _lines(session, letters.where(Mail.confidential.is_(False)).order_by(Mail.id))


def _shown(table: Table) -> list[Any]:
    return [c for c in table.c if c.name not in HIDDEN and not isinstance(c.type, LargeBinary)]


def _lines(session: Session, query: Any) -> Iterator[tuple[bytes, int]]:
    """The rows of a query as lines of JSON, so many at a time, with their count."""
    for rows in session.execute(query.execution_options(yield_per=PART)).partitions(PART):
        said = (json.dumps(dict(row._mapping), default=_plain, ensure_ascii=False) for row in rows)
        yield ("\n".join(said) + "\n").encode(), len(rows)


def _plain(value: Any) -> str:
    """A value that JSON knows not: sums exactly as they are, moments by ISO 8601."""
    if isinstance(value, Decimal):
        return format(value, "f")
    return value.isoformat() if isinstance(value, datetime) else str(value)


class _Made:
    """What was written of the archive and not taken yet. It cannot be wound back: ZIP notes sizes behind each file."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []

    def write(self, part: bytes) -> int:
        """Take a part in."""
        self._parts.append(bytes(part))
        return len(part)

    def flush(self) -> None:
        """There is nothing behind it to pass anything on to."""

    def taken(self) -> bytes:
        """What is there, once."""
        part, self._parts = b"".join(self._parts), []
        return part
