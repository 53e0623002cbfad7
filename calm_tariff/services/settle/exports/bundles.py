"""All that was issued for a period in one archive (ZIP), put together by a job that can be left, stopped, and done
again: each document as a PDF, as UBL and with its evidence, and the lines and the cost and usage rows of them all."""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Iterable, Iterator
from dataclasses import astuple, dataclass, fields
from datetime import date, datetime, timedelta
from typing import cast

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import BUNDLE, move
from calm_tariff.core.periods import month_starting
from calm_tariff.formats import csv_cells
from calm_tariff.formats.money_documents import focus
from calm_tariff.services.base import auditing, idempotency, jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.settle.documents import files
from calm_tariff.services.settle.exports import cost_and_usage, lines
from calm_tariff.services.settle.exports.lines import LineRow
from calm_tariff.store.base.locking import locked
from calm_tariff.store.settle.bundles import Bundle, BundlePart
from calm_tariff.store.settle.document_files import DocumentFile
from calm_tariff.store.settle.money_documents import Invoice, MoneyDocument

MAKE = "put a period's documents together"
KEPT = timedelta(days=7)
# So many bytes are kept in one row, and so many archives of a period are told.
PART, SHOWN = 1_000_000, 10


@dataclass(frozen=True, slots=True, kw_only=True)
class BundleView:
    """An archive as far as it is: of `planned` documents so many are `done`; its size in bytes."""

    id: int
    period_start: date
    state: str
    asked_by: str
    asked_at: datetime
    planned: int
    done: int
    size: int


def begin(ctx: Context, start: date, key: str | None = None) -> BundleView:
    """Have all that was issued for a period put together. Raises `Invalid` for a day that starts none, or `Conflict`
    where nothing was issued, or it is being done."""
    ctx.actor.must_be("finance")
    period = month_starting(start)
    with ctx.transaction() as session:
        before = idempotency.answered(session, ctx, key, f"bundle {start}")
        if before is not None:
            return _view(session.get_one(Bundle, before["id"]))
        going = select(Bundle.id).where(Bundle.period_start == start, Bundle.state == "running")
        if session.scalar(going.limit(1)) is not None:
            raise Conflict("is being put together already", f"{start:%B %Y}")
        issued = MoneyDocument.period_start == period.start, MoneyDocument.number.is_not(None)
        planned = session.scalar(select(func.count(MoneyDocument.id)).where(*issued)) or 0
        if not planned:
            raise Conflict("nothing was issued for it yet", f"{start:%B %Y}")
        made = Bundle(
            period_start=period.start, state="running", asked_by=ctx.actor.name, asked_at=ctx.now, planned=planned
        )
        session.add(made)
        session.flush()
        jobs.write(session, ctx, MAKE, f"{start:%B %Y}", {"bundle": made.id}, subject=str(made.id))
        auditing.note(session, ctx, "had documents put together", ("bundle", made.id, f"{start:%B %Y}"))
        idempotency.remember(session, ctx, key, {"id": made.id})
        return _view(made)


def of_period(ctx: Context, start: date) -> list[BundleView]:
    """The archives of a period, the latest first."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(Bundle).where(Bundle.period_start == start).order_by(Bundle.id.desc()).limit(SHOWN)
        return [_view(each) for each in session.scalars(query)]


def stop(ctx: Context, bundle_id: int) -> BundleView:
    """Put no more together. Raises `NotFound`, or `Conflict` where it is over."""
    ctx.actor.must_be("finance")
    with ctx.transaction() as session:
        found = _held(session, bundle_id)
        found.state, found.ended_at = move(BUNDLE, "the archive", found.state, "stopped"), ctx.now
        session.execute(delete(BundlePart).where(BundlePart.bundle_id == bundle_id))
        return _view(found)


def content(ctx: Context, bundle_id: int) -> tuple[str, Iterator[bytes]]:
    """An archive that is done: its name, and what is in it, part by part. Raises `NotFound`, or `Conflict` where it is
    not done."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = session.get(Bundle, bundle_id)
        if found is None:
            raise NotFound("there is no such archive any more", str(bundle_id))
        if found.state != "done":
            raise Conflict(f"is {found.state}", "the archive")
        places = session.scalars(
            select(BundlePart.place).where(BundlePart.bundle_id == bundle_id).order_by(BundlePart.place)
        ).all()
        name = f"documents-{found.period_start:%Y-%m}.zip"

    def parts() -> Iterator[bytes]:
        for place in places:
            with ctx.reading() as inner:
                yield inner.get_one(BundlePart, (bundle_id, place)).content

    return name, parts()


def make(ctx: Context, bundle_id: int) -> bool:
    """Put an archive together; whether it is done now. One that somebody broke off is begun anew."""
    with ctx.transaction() as session:
        found = session.get(Bundle, bundle_id)
        if found is None or found.state != "running":
            return False
        start = found.period_start
        session.execute(delete(BundlePart).where(BundlePart.bundle_id == bundle_id))
    written = _Parts(ctx, bundle_id)
    with zipfile.ZipFile(cast("io.BytesIO", written), "w", zipfile.ZIP_DEFLATED) as archive:
        for done, document in enumerate(lines.documents(ctx, start), start=1):
            files.write(ctx, document)
            with ctx.transaction() as session:
                for name, of in _of_document(session, document):
                    archive.writestr(name, of)
            if not _went_on(ctx, bundle_id, done):
                return False
        for name, of in _of_all(ctx, start):
            archive.writestr(name, of)
    written.close()
    with ctx.transaction() as session:
        found = _held(session, bundle_id)
        if found.state != "running":
            session.execute(delete(BundlePart).where(BundlePart.bundle_id == bundle_id))
            return False
        found.state, found.ended_at = move(BUNDLE, "the archive", found.state, "done"), ctx.now
        found.size = written.size
        return True


def forget(ctx: Context) -> None:
    """Forget archives that are old: they can be put together again."""
    with ctx.transaction() as session:
        old = session.scalars(
            select(Bundle.id).where(Bundle.asked_at < ctx.now - KEPT, Bundle.state != "running")
        ).all()
        session.execute(delete(BundlePart).where(BundlePart.bundle_id.in_(old)))
        session.execute(delete(Bundle).where(Bundle.id.in_(old)))


class _Parts:
    """A file that is only written to, kept in rows."""

    def __init__(self, ctx: Context, bundle_id: int) -> None:
        self._ctx, self._bundle, self._buffer, self._place, self.size = ctx, bundle_id, bytearray(), 0, 0

    def write(self, content: bytes) -> int:
        """Keep whole parts as they come."""
        self._buffer += content
        while len(self._buffer) >= PART:
            self._keep(PART)
        return len(content)

    def flush(self) -> None:
        """What is not kept yet waits for more."""

    def close(self) -> None:
        """Keep the rest."""
        if self._buffer:
            self._keep(len(self._buffer))

    def _keep(self, count: int) -> None:
        part, self._buffer = bytes(self._buffer[:count]), self._buffer[count:]
        with self._ctx.transaction() as session:
            session.add(BundlePart(bundle_id=self._bundle, place=self._place, content=part))
        self._place, self.size = self._place + 1, self.size + len(part)


def _of_document(session: Session, document_id: int) -> Iterator[tuple[str, bytes]]:
    document = session.get_one(MoneyDocument, document_id)
    kept = select(DocumentFile).where(DocumentFile.document_id == document_id).order_by(DocumentFile.form)
    for each in session.scalars(kept):
        yield f"{document.number}.{'pdf' if each.form == 'pdf' else 'xml'}", each.content
    if isinstance(document, Invoice):
        yield f"{document.number}.evidence.json", json.dumps(document.evidence, indent=1).encode()


def _of_all(ctx: Context, start: date) -> Iterator[tuple[str, bytes]]:
    yield "lines.csv", _as_csv(lines.every(ctx, start))
    rows = list(cost_and_usage.every(ctx, start))
    yield "cost-and-usage.csv", "".join(focus.as_csv(rows)).encode()
    yield "cost-and-usage.parquet", focus.as_parquet(rows)


def _as_csv(rows: Iterable[LineRow]) -> bytes:
    head = [f.name for f in fields(LineRow)]
    return csv_cells.lines([head, *(astuple(row) for row in rows)]).encode()


def _went_on(ctx: Context, bundle_id: int, done: int) -> bool:
    """Whether it is to go on, after so many documents."""
    with ctx.transaction() as session:
        found = _held(session, bundle_id)
        if found.state != "running":
            session.execute(delete(BundlePart).where(BundlePart.bundle_id == bundle_id))
            return False
        found.done = done
        return True


def _held(session: Session, bundle_id: int) -> Bundle:
    found = locked(session, Bundle, bundle_id)
    if found is None:
        raise NotFound("there is no such archive any more", str(bundle_id))
    return found


def _view(of: Bundle) -> BundleView:
    return BundleView(
        id=of.id,
        period_start=of.period_start,
        state=of.state,
        asked_by=of.asked_by,
        asked_at=of.asked_at,
        planned=of.planned,
        done=of.done,
        size=of.size,
    )
