"""Lines of issued documents, one row each, as programs of others read them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import NotFound
from calm_tariff.core.lifecycles import NOT_ISSUED
from calm_tariff.core.money import rounded
from calm_tariff.core.periods import instant_of, local_day
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.settle.documents import views
from calm_tariff.services.settle.documents.views import LineView
from calm_tariff.store.admit import merged
from calm_tariff.store.settle.money_documents import CreditNote, MoneyDocument

# So many documents are read at a time.
AT_ONCE = 200


@dataclass(frozen=True, slots=True, kw_only=True)
class LineRow:
    """A line of an issued document: of which, for whom, what for, how much of it, and how it is taxed. Amounts of
    credit notes are below 0 where they take back; `belongs_to` is the first day of the period it is charged for."""

    document: str
    kind: str
    issued_on: date
    consumer_id: int
    consumer: str
    line: int
    sort: str
    belongs_to: date
    label: str
    rule: str
    product: str
    plan: str
    revision: int | None
    application: str
    subscription_id: int | None
    segment_start: datetime | None
    segment_end: datetime | None
    charge: str
    meter: str
    quantity: Decimal | None
    included: Decimal | None
    priced: Decimal | None
    amount: Decimal
    currency: str
    treatment: str
    percent: Decimal
    corrects: str


def of_invoice(ctx: Context, document_id: int) -> list[LineRow]:
    """The lines of an issued document. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        return _rows(session, [_issued(session, document_id)])


def of_own(ctx: Context, document_id: int) -> list[LineRow]:
    """The lines of one's own document. Raises `NotFound` for another's, just as for none."""
    owner = ctx.actor.consumer_to("see money")
    with ctx.reading() as session:
        document = session.get(MoneyDocument, document_id)
        if document is None or document.consumer_id not in merged.with_merged(session, owner):
            raise NotFound("there is no such document", str(document_id))
        return _rows(session, [_issued(session, document_id)])


def of_period(ctx: Context, start: date) -> Iterator[LineRow]:
    """The lines of all documents that were issued for a period, by document."""
    ctx.actor.must_be(*ROLES)
    return every(ctx, start)


def every(ctx: Context, start: date) -> Iterator[LineRow]:
    """The same for whoever was asked for them."""
    ids = documents(ctx, start)
    for first in range(0, len(ids), AT_ONCE):
        with ctx.reading() as session:
            yield from _rows(session, loaded(session, ids[first : first + AT_ONCE]))


def documents(ctx: Context, start: date) -> list[int]:
    """The ids of the documents that were issued for a period: invoices, then credit notes, by number."""
    with ctx.reading() as session:
        query = select(MoneyDocument.id).where(MoneyDocument.period_start == start, MoneyDocument.number.is_not(None))
        return list(session.scalars(query.order_by(MoneyDocument.kind.desc(), MoneyDocument.number)))


def loaded(session: Session, ids: Sequence[int]) -> list[MoneyDocument]:
    """Documents with their lines, in the order of their ids as given."""
    query = select(MoneyDocument).where(MoneyDocument.id.in_(ids))
    options = selectinload(MoneyDocument.lines), selectinload(MoneyDocument.tax_groups)
    found = {each.id: each for each in session.scalars(query.options(*options))}
    return [found[each] for each in ids]


def _issued(session: Session, document_id: int) -> MoneyDocument:
    document = session.get(MoneyDocument, document_id)
    if document is None or document.state in NOT_ISSUED or document.number is None:
        raise NotFound("there is no such issued document", str(document_id))
    return document


def _rows(session: Session, of: Sequence[MoneyDocument]) -> list[LineRow]:
    by_document, where = views.lines_of(session, of), zone_of(session)
    found = []
    for document in of:
        assert document.issued_at is not None
        day = local_day(instant_of(document.issued_at), where)
        for place, line in enumerate(by_document[document.id], start=1):
            found.append(_row(document, day, place, line))
    return found


def _row(document: MoneyDocument, day: date, place: int, x: LineView) -> LineRow:
    charged, note = x.charged, isinstance(document, CreditNote)
    amount = rounded(-x.amount if note else x.amount, document.currency)
    return LineRow(
        document=document.number or "",
        kind=document.kind,
        issued_on=day,
        consumer_id=document.consumer_id,
        consumer=document.consumer.name,
        line=place,
        sort=x.sort,
        belongs_to=x.belongs_to,
        label=x.label,
        rule=x.rule,
        product=charged.product if charged else "",
        plan=charged.plan if charged else "",
        revision=charged.revision if charged else None,
        application=charged.application if charged else "",
        subscription_id=charged.subscription_id if charged else None,
        segment_start=charged.segment_start if charged else None,
        segment_end=charged.segment_end if charged else None,
        charge=x.kind,
        meter=x.meter or "",
        quantity=x.quantity,
        included=x.included,
        priced=x.priced,
        amount=amount,
        currency=document.currency,
        treatment=x.treatment,
        percent=x.percent,
        corrects=x.corrects.number if x.corrects else "",
    )
