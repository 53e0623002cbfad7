"""Keeping drafts: many at once, with as many statements for all of them as for one. A charge run over ten thousand
subscriptions spends its time here."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.periods import Period
from calm_tariff.services.settle.documents.drafting import Drafted, Row, group_rows
from calm_tariff.store.base.locking import hold_all
from calm_tariff.store.settle.money_documents import DocumentTax, DraftReview, Invoice, MoneyLine

# What a line says where nothing is said of it.
_UNSAID: Row = {
    **dict.fromkeys(c.name for c in MoneyLine.__table__.columns if c.name not in ("id", "document_id")),
    "nth": 0,
    "words": "",
    "days": 0,
    "slices": [],
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Before:
    """An invoice that a consumer has of a period, and the units that its own lines had, where it is a draft."""

    invoice_id: int
    is_draft: bool
    units: Decimal


def emptied(session: Session, period: Period, consumers: Collection[int]) -> dict[int, Before]:
    """The invoices of a period that some consumers have, held, by consumer: of those that are drafts all lines are
    gone, to be kept anew."""
    of_period = Invoice.period_start == period.start, Invoice.consumer_id.in_(consumers)
    hold_all(session, Invoice, session.scalars(select(Invoice.id).where(*of_period)).all())
    found = session.execute(select(Invoice.id, Invoice.consumer_id, Invoice.state).where(*of_period)).all()
    drafts = [each.id for each in found if each.state == "draft"]
    own = select(MoneyLine.document_id, func.sum(MoneyLine.quantity)).where(MoneyLine.sort == "own")
    had = dict(session.execute(own.where(MoneyLine.document_id.in_(drafts)).group_by(MoneyLine.document_id)).all())
    for table in (MoneyLine, DocumentTax):
        gone = delete(table).where(table.document_id.in_(drafts))
        session.execute(gone, execution_options={"synchronize_session": False})
    return {
        each.consumer_id: Before(
            invoice_id=each.id, is_draft=each.state == "draft", units=had.get(each.id) or Decimal(0)
        )
        for each in found
    }


def keep(
    session: Session, period: Period, run_id: int, drafts: Sequence[Drafted], before: Mapping[int, Before]
) -> dict[int, int]:
    """Keep drafts, of consumers that have none or one that was emptied; their ids, by consumer."""
    heads = [
        {
            "kind": "invoice",
            "state": "draft",
            "consumer_id": each.consumer_id,
            "period_start": period.start,
            "period_end": period.end,
            "run_id": run_id,
            "open_amount": 0,
            "order_number": "",
            **each.head,
        }
        for each in drafts
    ]
    emptied = {whose: was.invoice_id for whose, was in before.items()}
    _keep(session, Invoice, [head for head in heads if head["consumer_id"] not in emptied])
    again = [{"id": emptied[head["consumer_id"]], **head} for head in heads if head["consumer_id"] in emptied]
    _keep(session, Invoice, again, ("run_id", *(drafts[0].head if drafts else ())))
    whose = select(Invoice.consumer_id, Invoice.id).where(
        Invoice.period_start == period.start, Invoice.consumer_id.in_([each.consumer_id for each in drafts])
    )
    ids = dict(session.execute(whose).all())
    of = [(ids[each.consumer_id], each) for each in drafts]
    _keep(session, MoneyLine, [{**_UNSAID, **line, "document_id": id} for id, each in of for line in each.lines])
    _keep(session, DocumentTax, [{**group, "document_id": id} for id, each in of for group in group_rows(each.sums)])
    return ids


def keep_reviews(session: Session, reviews: Sequence[Row]) -> None:
    """Keep what of drafts is out of the ordinary. Those that are held back stay so."""
    rows = [{"held_by": "", "held_why": "", **each} for each in reviews]
    _keep(session, DraftReview, rows, ("weight", "findings", "last_month"))


def _keep(session: Session, table: Any, rows: Sequence[Row], written_anew: Collection[str] = ()) -> None:
    """Insert rows; of those that are there already, these columns are written anew."""
    if not rows:
        return
    statement = insert(table.__table__)
    if written_anew:
        statement = statement.on_duplicate_key_update({name: statement.inserted[name] for name in written_anew})
    session.execute(statement, rows)
