"""What can be brought in from a file: for each kind of thing, the columns its file has."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, get_args

from calm_tariff.core.errors import Invalid

Kind = Literal["consumers", "members", "applications", "subscriptions"]
KINDS: tuple[Kind, ...] = get_args(Kind)
# So many rows one file may have.
MOST_ROWS = 20_000
LONGEST_CELL = 2_000
# The column in which a file of rows that were left out says why; it is passed over when they are brought in again.
WHY = "why"


@dataclass(frozen=True, slots=True)
class Column:
    """A column of a file by the name in its head, what stands in it, and whether each row needs it."""

    name: str
    holds: str
    needed: bool = False


_WHOSE = Column("organisation", "the consumer's name, as it is here", needed=True)

COLUMNS: Mapping[Kind, tuple[Column, ...]] = {
    "consumers": (
        Column("organisation", "its name", needed=True),
        Column("owner", "who owns its account", needed=True),
        Column("email", "the owner's mail address", needed=True),
        Column("portal", "the portal it comes by, by its name; else the first"),
        Column("address", "its lines with | between them"),
        Column("country", "two letters (ISO 3166-1)"),
        Column("tax_number", "in its country's form"),
        Column("references", "such as Ledger: 10423 | Post: P-7"),
        Column("groups", "the groups it is in, with | between them"),
        Column("pays", "transfer, where it has said so"),
        Column("order_number", "what its invoices carry"),
    ),
    "members": (
        _WHOSE,
        Column("name", "their name", needed=True),
        Column("email", "their mail address", needed=True),
        Column("role", "owner, developer or billing", needed=True),
    ),
    "applications": (
        _WHOSE,
        Column("application", "its name", needed=True),
        Column("purpose", "what it is for"),
        Column("contact", "a mail address of whoever knows about it"),
        Column("environment", "live or sandbox; else live"),
    ),
    "subscriptions": (
        _WHOSE,
        Column("application", "which of its applications", needed=True),
        Column("product", "by its name", needed=True),
        Column("plan", "by its name, on sale", needed=True),
        Column("purpose", "what for, in a sentence", needed=True),
    ),
}


def kind(text: str, field: str = "kind") -> Kind:
    """A kind by its name. Raises `Invalid`, naming the field."""
    for each in KINDS:
        if each == text:
            return each
    raise Invalid(f"must be one of {', '.join(KINDS)}", field)


def must_fit(of: Kind, head: Sequence[str], field: str = "text") -> None:
    """See that a file's head has the columns that its kind needs, each once, and no others. Raises `Invalid`."""
    known = [column.name for column in COLUMNS[of]]
    for name in head:
        if name == WHY:
            continue
        if name not in known:
            raise Invalid(f"has a column {name!r}, which {of} have not; they have {', '.join(known)}", field)
        if list(head).count(name) > 1:
            raise Invalid(f"has the column {name!r} twice", field)
    missing = [column.name for column in COLUMNS[of] if column.needed and column.name not in head]
    if missing:
        raise Invalid(f"has no column {', '.join(missing)}", field)


def wrong(of: Kind, cells: Mapping[str, str]) -> str:
    """What is wrong with a row by itself: a cell that is missing or too long; empty where nothing is."""
    for column in COLUMNS[of]:
        cell = cells.get(column.name, "")
        if column.needed and not cell:
            return f"{column.name}: is missing"
        if len(cell) > LONGEST_CELL:
            return f"{column.name}: must be at most {LONGEST_CELL:,} characters long"
    return ""


def parts(cell: str) -> list[str]:
    """What stands in a cell that holds several."""
    return [part.strip() for part in cell.split("|") if part.strip()]
