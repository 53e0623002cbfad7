"""Bank statements as banks' programs write them as CSV: which column is what is said once, and kept."""

from __future__ import annotations

import hashlib
from collections import Counter
from dataclasses import dataclass, fields
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from typing import Literal, get_args

from calm_tariff.core.billing.bank.statements import BankLine, Statement, Unread
from calm_tariff.core.errors import Invalid
from calm_tariff.formats import csv_rows
from calm_tariff.formats.csv_rows import CsvRow

MOST_ROWS = 20_000
Days = Literal["2026-12-31", "31.12.2026", "31/12/2026", "12/31/2026", "31-12-2026"]
_FORMS: dict[Days, str] = {
    "2026-12-31": "%Y-%m-%d",
    "31.12.2026": "%d.%m.%Y",
    "31/12/2026": "%d/%m/%Y",
    "12/31/2026": "%m/%d/%Y",
    "31-12-2026": "%d-%m-%Y",
}
Points = Literal[".", ","]
LONGEST_NAME = 100


@dataclass(frozen=True, slots=True, kw_only=True)
class Columns:
    """The names of a bank's columns, as its head has them; "" for what it has none for. `days` shows how it writes the
    last day of 2026, `point` what stands before the minor units. Where there is no `reference` of the bank's own, an
    entry is known by all that its row says."""

    booked_on: str
    amount: str
    value_on: str = ""
    name: str = ""
    iban: str = ""
    text: str = ""
    reference: str = ""
    days: Days = "2026-12-31"
    point: Points = "."


def checked(columns: Columns) -> Columns:
    """The same as they are kept. Raises `Invalid`, naming the field."""
    if columns.days not in get_args(Days):
        raise Invalid(f"must be one of {', '.join(get_args(Days))}", "columns.days")
    if columns.point not in get_args(Points):
        raise Invalid("must be . or ,", "columns.point")
    named = {f.name: _folded(getattr(columns, f.name)) for f in fields(columns) if f.name not in ("days", "point")}
    for name, column in named.items():
        if not column and name in ("booked_on", "amount"):
            raise Invalid("must name a column", f"columns.{name}")
        if len(column) > LONGEST_NAME:
            raise Invalid(f"must have at most {LONGEST_NAME} characters", f"columns.{name}")
    return Columns(**named, days=columns.days, point=columns.point)


def read(text: str, columns: Columns, currency: str, field: str = "text") -> Statement:
    """The rows of a file as entries; those that cannot be used are told with their line. Raises `Invalid` for what is
    no such file, or has none of the columns."""
    head, rows = csv_rows.read(text, MOST_ROWS, field)
    columns = checked(columns)
    for each in fields(columns):
        column = getattr(columns, each.name)
        if each.name not in ("days", "point") and column and column not in head:
            raise Invalid(f"has no column {column!r}; it has {', '.join(head)[:300]}", f"columns.{each.name}")
    lines: list[BankLine] = []
    unread: list[Unread] = []
    alike: Counter[str] = Counter()
    for row in rows:
        try:
            lines.append(_line(row, columns, currency, alike))
        except Invalid as error:
            unread.append(Unread(where=f"line {row.line}", what=str(error)))
    return Statement(iban="", lines=tuple(lines), unread=tuple(unread))


def _line(row: CsvRow, columns: Columns, currency: str, alike: Counter[str]) -> BankLine:
    if row.wrong:
        raise Invalid(row.wrong, "")

    def cell(name: str, longest: int = 500) -> str:
        column = getattr(columns, name)
        return " ".join(row.cells.get(column, "").split())[:longest] if column else ""

    booked = _day(cell("booked_on"), columns)
    return BankLine(
        reference=cell("reference", 140) or _known_by(row, alike),
        booked_on=booked,
        value_on=_day(cell("value_on"), columns) if cell("value_on") else booked,
        amount=_amount(cell("amount"), columns),
        currency=currency,
        name=cell("name", 140),
        iban=cell("iban", 34),
        text=cell("text"),
    )


def _known_by(row: CsvRow, alike: Counter[str]) -> str:
    """What tells a row without a reference from others: all that it says, and which it is of those that say the
    same."""
    said = hashlib.sha256("\x1f".join(f"{name}={cell}" for name, cell in sorted(row.cells.items())).encode())
    digest = said.hexdigest()[:32]
    alike[digest] += 1
    return f"row {digest} {alike[digest]}"


def _day(text: str, columns: Columns) -> date:
    try:
        return datetime.strptime(text, _FORMS[columns.days]).date()
    except ValueError:
        raise Invalid(f"{text!r} is no day such as {columns.days}", columns.booked_on) from None


def _amount(text: str, columns: Columns) -> Decimal:
    thousands = "," if columns.point == "." else "."
    plain = text.replace(" ", "").replace("\u00a0", "").replace("'", "").replace(thousands, "")
    plain = plain.replace(columns.point, ".").replace("\u2212", "-").removeprefix("+")
    try:
        amount = Decimal(plain)
    except InvalidOperation:
        raise Invalid(f"{text!r} is no amount", columns.amount) from None
    if not amount.is_finite() or not 0 < abs(amount) < 10**15:
        raise Invalid(f"{text!r} must be an amount other than 0", columns.amount)
    return amount


def _folded(name: str) -> str:
    return name.strip().lower().replace(" ", "_")
