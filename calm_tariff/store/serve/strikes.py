"""Calls that were struck out, and who struck them out, when and why."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import ForeignKey, String, select, update
from sqlalchemy.orm import Mapped, Session, mapped_column

from calm_tariff.store.base.columns import Base, Id, LongJson, Micros, Name, Prose
from calm_tariff.store.serve.call_queries import CallFilter, narrowed, one_by_one
from calm_tariff.store.serve.call_writer import Sums, add_sums
from calm_tariff.store.serve.usage import Call

_AT_ONCE = 1000


class Strike(Base):
    """Calls of a consumer that were struck out: so many, between two instants, which came to `units` by meter id.
    `wanted` is how they were chosen, `call_ids` those that were named one by one. With `undone_at` they count again."""

    __tablename__ = "strike"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    at: Mapped[datetime]
    by: Mapped[Name]
    identity: Mapped[str] = mapped_column(String(60))
    why: Mapped[Prose]
    wanted: Mapped[dict[str, Any]]
    call_ids: Mapped[LongJson]
    calls: Mapped[int]
    units: Mapped[dict[str, Any]]
    since_us: Mapped[Micros]
    last_us: Mapped[Micros]
    undone_at: Mapped[datetime | None]
    undone_by: Mapped[Name] = mapped_column(default="")
    undone_why: Mapped[Prose] = mapped_column(default="")


class Counted(NamedTuple):
    """A let-through call with what it comes to, and where that is summed."""

    call_id: str
    at_us: int
    consumer_id: int | None
    subscription_id: int | None
    stay_id: int | None
    key_id: int | None
    operation_id: int | None
    units: dict[str, str]


def meant(
    session: Session, wanted: CallFilter, call_ids: Sequence[str], at_most: int, of: int | None = None
) -> list[Counted]:
    """Let-through calls that a filter means, or of some ids, in the order they came: those that count, or those of a
    strike. No more than one beyond `at_most`."""
    columns = [getattr(Call, name) for name in Counted._fields]
    found: list[Counted] = []
    for each in one_by_one(session, wanted):
        query = narrowed(select(*columns), each).where(Call.verdict != "refused")
        query = query.where(Call.strike_id.is_(None) if of is None else Call.strike_id == of)
        if call_ids:
            query = query.where(Call.call_id.in_(call_ids))
        rows = session.execute(query.order_by(Call.at_us, Call.call_id).limit(at_most + 1))
        found.extend(Counted(*row) for row in rows)
    return found


def mark(session: Session, calls: Sequence[Counted], strike_id: int | None) -> None:
    """Mark calls as struck out, and take them out of the sums that are charged; without a strike, put them back."""
    sums = Sums()
    for call in calls:
        sums.count_units(call._asdict(), -1 if strike_id else 1)
    in_order = sorted(calls, key=lambda call: call.at_us)
    for start in range(0, len(in_order), _AT_ONCE):
        part = in_order[start : start + _AT_ONCE]
        # Pairs of id and instant would be told apart by the database in a time that grows with their square.
        between = Call.at_us.between(part[0].at_us, part[-1].at_us)
        these = Call.call_id.in_([call.call_id for call in part]) & between
        session.execute(update(Call).where(these).values(strike_id=strike_id), execution_options=_PLAIN)
    add_sums(session, sums)


_PLAIN = {"synchronize_session": False}
