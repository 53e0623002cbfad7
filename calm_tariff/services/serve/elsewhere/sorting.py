"""Rows of usage sorted: calls where they belong, and rows that cannot be used, which are kept with why."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core import keys
from calm_tariff.core.errors import Invalid
from calm_tariff.core.names import cut
from calm_tariff.formats import outside_calls
from calm_tariff.formats.outside_calls import Part
from calm_tariff.services.serve.elsewhere.placing import Placed, Places
from calm_tariff.store.serve.outside_usage import UsageFileRow

LONGEST_TEXT = 500
# The line of a row, and what is wrong with it.
Unusable = tuple[int, str]


def sort(
    rows: Iterable[tuple[int, outside_calls.Read]], places: Places, take: Callable[[Placed], None]
) -> list[Unusable]:
    """Hand rows on, one by one, as calls where they belong; returns those that cannot be used, with why."""
    unusable: list[Unusable] = []
    place = places.place
    for line, row in rows:
        if isinstance(row, str):
            unusable.append((line, row))
            continue
        try:
            placed = place(row)
        except Invalid as error:
            unusable.append((line, str(error)))
            continue
        take(placed)
    return unusable


def keep(session: Session, usage_file_id: int, part: Part, rows: Sequence[Unusable]) -> int:
    """Keep rows that cannot be used, each once; how many were not kept before."""
    if not rows:
        return 0
    lines = part.text.split(b"\n")
    kept = [
        {
            "file_id": usage_file_id,
            "line": line,
            "said": why,
            "text": cut(_text(lines, line - part.first), LONGEST_TEXT),
        }
        for line, why in rows
    ]
    added = 0
    for start in range(0, len(kept), 1000):
        some = insert(UsageFileRow).prefix_with("IGNORE").values(kept[start : start + 1000])
        added += session.execute(some).rowcount  # type: ignore[attr-defined]
    return added


def _text(lines: Sequence[bytes], nth: int) -> str:
    text = lines[nth].decode("utf-8", "replace").rstrip("\r") if nth < len(lines) else ""
    return keys.blanked("".join(letter if letter.isprintable() else "�" for letter in text))
