"""The rows of an organisation that is merged into another, table by table: those that go over to the one that goes on,
and those that stay under the id they were made with."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, Table, delete, false, select, true, tuple_, update
from sqlalchemy.orm import Session

from calm_tariff.store.admit.community import Rating
from calm_tariff.store.admit.consumers import Consumer, ConsumerInGroup, ConsumerNote
from calm_tariff.store.admit.looking import LookedAs
from calm_tariff.store.admit.requests import TermsAccepted
from calm_tariff.store.admit.subscriptions import TrialHad
from calm_tariff.store.base.columns import Base
from calm_tariff.store.observe.alerts import Alert, AlertHook
from calm_tariff.store.settle.handoff import OutsideCustomer


@dataclass(frozen=True, slots=True)
class Over:
    """A table whose rows go over, but for those of which the organisation that goes on has its own: it has one at most
    for each value of the columns in `one`. They stay, or are thrown away, where two would be one too many."""

    table: Table
    one: Sequence[str] | None = None
    thrown_away: bool = False


def _table(of: type[Base]) -> Table:
    table = of.__table__
    assert isinstance(table, Table)
    return table


# Members, applications and invitations go over one by one (services.observe.merging).
OVER = (
    Over(ConsumerInGroup, ("group_id",), thrown_away=True),
    Over(_table(ConsumerNote)),
    Over(_table(TermsAccepted), ("product_id", "number")),
    Over(_table(TrialHad), ("product_id",)),
    Over(_table(Rating), ("product_id",), thrown_away=True),
    Over(_table(Alert)),
    Over(_table(AlertHook), (), thrown_away=True),
    Over(_table(OutsideCustomer), (), thrown_away=True),
)


def hand_over(session: Session, consumer_id: int, into_id: int) -> None:
    """Let the rows of a consumer go over to another, and with it those that were merged into it before."""
    for over in OVER:
        table = over.table
        mine = table.c.consumer_id == consumer_id
        session.execute(update(table).where(mine, ~_there(session, over, into_id)).values(consumer_id=into_id))
        if over.thrown_away:
            session.execute(delete(table).where(mine))
    session.execute(update(Consumer).where(Consumer.merged_into_id == consumer_id).values(merged_into_id=into_id))
    session.expire_all()


def let_go(session: Session, consumer_id: int) -> None:
    """Nobody sees the portal as this consumer any more."""
    session.execute(delete(LookedAs).where(LookedAs.consumer_id == consumer_id))


def _there(session: Session, over: Over, into_id: int) -> ColumnElement[bool]:
    """Which rows the organisation that goes on has of its own."""
    if over.one is None:
        return false()
    columns = [over.table.c[name] for name in ("consumer_id", *over.one)]
    own = session.execute(select(*columns).where(over.table.c.consumer_id == into_id)).all()
    if not over.one:
        return true() if own else false()
    return tuple_(*columns[1:]).in_([tuple(row)[1:] for row in own])
