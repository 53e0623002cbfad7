"""Repeats of recorded calls that say something else: what was set aside and counts nothing."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from decimal import Decimal
from typing import Any

from sqlalchemy import select

from calm_tariff.core.periods import moment_of
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.base.paging import Page, PageQuery, page
from calm_tariff.store.serve.usage import SetAside


@dataclass(frozen=True, slots=True)
class SetAsideView:
    """A repeat: of which call, from where, and by name what is recorded and what it said instead."""

    id: int
    call_id: str
    seen_at: datetime
    source: str
    differs: list[str]


def listed(ctx: Context, wanted: PageQuery) -> Page[SetAsideView]:
    """A page of what was set aside, the newest first, or the oldest if `down`; words narrow it to call ids."""
    ctx.actor.must_be(*ROLES)
    query = select(SetAside)
    if wanted.words:
        query = query.where(SetAside.call_id.startswith(wanted.words, autoescape=True))
    with ctx.reading() as session:
        found = page(session, query, SetAside.id, {"seen": SetAside.id}, replace(wanted, down=not wanted.down))
        return replace(
            found,
            rows=[
                SetAsideView(
                    s.id,
                    s.call_id,
                    s.seen_at,
                    s.source,
                    [
                        f"{_name(what)}: {_said(what, recorded)} recorded, {_said(what, repeated)} repeated"
                        for what, (recorded, repeated) in s.differs.items()
                    ],
                )
                for s in found.rows
            ],
        )


def _name(column: str) -> str:
    """A column of `Call` in words; times lose their unit, which stands with the figure."""
    return column.removesuffix("_us").removesuffix("_id").replace("_", " ")


def _said(column: str, value: Any) -> str:
    if column in ("at_us", "decided_us") and value:
        return moment_of(value).isoformat()
    if column.endswith("_us") and isinstance(value, int):
        return f"{Decimal(value) / 1000:f} ms"
    return "nothing" if value is None else f"{value:,}" if isinstance(value, int) else str(value)
