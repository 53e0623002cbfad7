"""Giving documents their numbers: in the transaction that issues, without a gap or a repeat, whatever runs beside."""

from __future__ import annotations

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents.numbering import Kind, document_number
from calm_tariff.store.settle.money_documents import NumberSeries


def next_number(session: Session, kind: Kind, year: int, prefix: str = "") -> str:
    """The next number of a series, with a beginning of the provider's where it has one. The series is held until the
    transaction ends: others who issue wait, and a number of one that fails is given again."""
    begun = insert(NumberSeries).values(kind=kind, year=year, last=1)
    session.execute(begun.on_duplicate_key_update(last=NumberSeries.last + 1))
    series = session.get_one(NumberSeries, (kind, year), populate_existing=True)
    return document_number(kind, year, series.last, prefix)
