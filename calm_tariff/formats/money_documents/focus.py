"""Cost and usage rows by FOCUS 1.0 (FinOps Open Cost and Usage Specification), as CSV and as Parquet."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import astuple, dataclass, fields
from datetime import UTC, datetime
from decimal import Decimal
from typing import Literal

VERSION = "1.0"
# What APIs are among the categories that the specification has.
SERVICE_CATEGORY = "Integration"
Category = Literal["Usage", "Purchase", "Tax", "Adjustment"]
Frequency = Literal["One-Time", "Recurring", "Usage-Based"]
_DIGITS, _SCALE = 38, 10


@dataclass(frozen=True, slots=True, kw_only=True)
class FocusRow:
    """A row, whose fields are the specification's columns in lower case with underscores, in the order in which they
    are written; what is none of its columns begins with `x_`, as it says."""

    billed_cost: Decimal
    billing_account_id: str
    billing_account_name: str
    billing_currency: str
    billing_period_end: datetime
    billing_period_start: datetime
    charge_category: Category
    charge_class: Literal["Correction"] | None
    charge_description: str
    charge_frequency: Frequency
    charge_period_end: datetime
    charge_period_start: datetime
    commitment_discount_category: None = None
    commitment_discount_id: None = None
    commitment_discount_name: None = None
    commitment_discount_status: None = None
    commitment_discount_type: None = None
    consumed_quantity: Decimal | None
    consumed_unit: str | None
    contracted_cost: Decimal
    contracted_unit_price: None = None
    effective_cost: Decimal
    invoice_issuer_name: str
    list_cost: Decimal
    list_unit_price: None = None
    pricing_category: Literal["Standard"] | None
    pricing_quantity: Decimal | None
    pricing_unit: str | None
    provider_name: str
    publisher_name: str
    region_id: None = None
    region_name: None = None
    resource_id: str | None
    resource_name: str | None
    resource_type: str | None
    service_category: str = SERVICE_CATEGORY
    service_name: str
    sku_id: str | None
    sku_price_id: str | None
    sub_account_id: None = None
    sub_account_name: None = None
    tags: str = "{}"
    x_document: str
    x_tax_treatment: str


def columns() -> list[str]:
    """The columns, as they are written."""
    return [_column(f.name) for f in fields(FocusRow)]


def as_csv(rows: Iterable[FocusRow]) -> Iterator[str]:
    """The rows as CSV (RFC 4180), part by part."""
    yield _line(columns())
    for row in rows:
        yield _line([_text(value) for value in astuple(row)])


def as_parquet(rows: Iterable[FocusRow]) -> bytes:
    """The rows as a Parquet file: amounts and quantities are decimals there, and instants in UTC."""
    # Only whoever writes such a file pays for the library.
    import pyarrow
    from pyarrow import parquet

    money, moment, text = pyarrow.decimal128(_DIGITS, _SCALE), pyarrow.timestamp("us", tz="UTC"), pyarrow.string()
    kinds = {"Decimal": money, "datetime": moment}
    names = [f.name for f in fields(FocusRow)]
    types = [next((kinds[each] for each in kinds if each in str(f.type)), text) for f in fields(FocusRow)]
    kept = [astuple(row) for row in rows]
    arrays = [pyarrow.array([row[place] for row in kept], type=kind) for place, kind in enumerate(types)]
    schema = pyarrow.schema([pyarrow.field(_column(n), kind) for n, kind in zip(names, types, strict=True)])
    written = io.BytesIO()
    parquet.write_table(pyarrow.Table.from_arrays(arrays, schema=schema), written)
    return written.getvalue()


def _column(name: str) -> str:
    if name.startswith("x_"):
        return "x_" + _column(name.removeprefix("x_"))
    return "".join(part.capitalize() for part in name.split("_"))


def _text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, Decimal):
        return f"{value:f}"
    return value.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ") if isinstance(value, datetime) else str(value)


def _line(cells: list[str]) -> str:
    kept = io.StringIO()
    csv.writer(kept, lineterminator="\r\n").writerow(cells)
    return kept.getvalue()
