"""Repeats of recorded calls that say something else: what was set aside and counts nothing."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime

from sqlalchemy import select

from calm_tariff.services.context import ROLES, Context
from calm_tariff.store.paging import Page, Wanted, page
from calm_tariff.store.usage import SetAside


@dataclass(frozen=True, slots=True)
class SetAsideView:
    """A repeat: of which call, from where, and by name what is recorded and what it said instead."""

    id: int
    call_id: str
    seen_at: datetime
    source: str
    differs: list[str]


def listed(ctx: Context, wanted: Wanted) -> Page[SetAsideView]:
    """A page of what was set aside, the newest first, or the oldest if `down`; words narrow it to call ids."""
    ctx.actor.must_be(*ROLES)
    query = select(SetAside)
    if wanted.words:
        query = query.where(SetAside.call_id.startswith(wanted.words, autoescape=True))
    with ctx.transaction() as session:
        found = page(session, query, SetAside.id, {"seen": SetAside.id}, replace(wanted, down=not wanted.down))
        return replace(
            found,
            rows=[
                SetAsideView(
                    s.id, s.call_id, s.seen_at, s.source,
                    [f"{name}: {recorded} recorded, {said} repeated" for name, (recorded, said) in s.differs.items()],
                )
                for s in found.rows
            ],
        )  # fmt: skip
