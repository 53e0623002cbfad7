"""Rows are held one by one and in one order."""

from __future__ import annotations

import pytest
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from calm_tariff.store.admit.requests import AccessRequest
from calm_tariff.store.base.columns import Base
from calm_tariff.store.base.locking import ORDER, LockedOutOfTurn, all_locked, locked
from calm_tariff.store.compose.products import Plan, Product
from tests.office import Office


def free(office: Office, table: type[Base], key: int) -> bool:
    """Whether somebody else could hold a row at once."""
    (column,) = table.__table__.primary_key.columns  # type: ignore[attr-defined]
    with office.ctx.sessions() as other, other.begin():
        try:
            other.execute(select(column).where(column == key).with_for_update(nowait=True))
        except OperationalError:
            return False
    return True


def test_a_row_is_held_alone_and_not_with_what_belongs_to_it(office: Office) -> None:
    _, _, request = office.ask("Anglers", "Ketch")
    ketch = office.plans["Ketch"]
    with office.ctx.transaction() as session:
        found = locked(session, AccessRequest, request)
        assert found is not None and found.plan.id == ketch  # read with it, but not held
        assert not free(office, AccessRequest, request)
        assert free(office, Plan, ketch) and free(office, Product, office.product)
    assert free(office, AccessRequest, request)


def test_what_is_held_is_read_as_it_is_now(office: Office) -> None:
    with office.ctx.transaction() as session:
        known = session.get_one(Plan, office.plans["Ketch"])
        with office.ctx.sessions() as other, other.begin():
            other.get_one(Plan, known.id).name = "Yawl"
        again = locked(session, Plan, known.id)
        assert again is known and known.name == "Yawl"
        assert locked(session, Plan, 10**9) is None


def test_several_rows_are_held_from_the_smallest_id_up(office: Office) -> None:
    ids = sorted(office.plans.values())
    with office.ctx.transaction() as session:
        assert [p.id for p in all_locked(session, Plan, [*reversed(ids), 10**9])] == ids
        assert not any(free(office, Plan, each) for each in ids)


def test_against_the_order_nothing_is_held(office: Office) -> None:
    with office.ctx.transaction() as session:
        locked(session, Plan, office.plans["Ketch"])
        locked(session, Plan, office.plans["Skiff"])  # of one table as many as are needed
        with pytest.raises(LockedOutOfTurn, match="product is locked after plan"):
            locked(session, Product, office.product)
    with office.ctx.transaction() as session:  # what another transaction held does not matter
        locked(session, Product, office.product)


def test_the_order_names_tables_that_are_there() -> None:
    assert set(ORDER) <= set(Base.metadata.tables) and len(set(ORDER)) == len(ORDER)
