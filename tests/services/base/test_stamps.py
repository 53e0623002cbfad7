"""Gateways are told of a change with the change itself, and nobody else who changes something waits for that."""

from __future__ import annotations

from threading import Event, Thread

import pytest
from sqlalchemy import select

from calm_tariff.services.base import stamps
from calm_tariff.store.base.locking import LockedOutOfTurn, locked
from calm_tariff.store.base.record import Stamp
from calm_tariff.store.compose.products import Plan
from tests.office import Office


def test_the_number_rises_once_for_each_transaction_that_changed_something(office: Office) -> None:
    before = stamps.number(office.ctx)
    with office.ctx.transaction() as session:
        for _ in range(3):
            stamps.touch(session, office.ctx)
    assert stamps.number(office.ctx) == before + 1
    with office.ctx.transaction() as session:
        session.scalars(select(Plan)).all()
    assert stamps.number(office.ctx) == before + 1
    with office.ctx.transaction() as session:
        assert session.get_one(Stamp, stamps.SNAPSHOT).changed_at == office.ctx.now


def test_what_is_undone_is_told_to_nobody(office: Office) -> None:
    before = stamps.number(office.ctx)

    def undone() -> None:
        with office.ctx.transaction() as session:
            stamps.touch(session, office.ctx)
            session.flush()
            raise ZeroDivisionError

    with pytest.raises(ZeroDivisionError):
        undone()
    assert stamps.number(office.ctx) == before
    with office.ctx.transaction() as session:
        joined = office.ctx.joining(session)
        with joined.transaction() as same:
            stamps.touch(same, joined)
    assert stamps.number(office.ctx) == before + 1


def test_two_who_change_something_do_not_wait_for_each_other_before_they_are_done(office: Office) -> None:
    changed, done = Event(), Event()

    def slow() -> None:
        with office.ctx.transaction() as session:
            stamps.touch(session, office.ctx)
            session.get_one(Plan, office.plans["Ketch"]).edition += 1
            session.flush()
            changed.set()
            assert done.wait(60)  # another finishes meanwhile

    before, thread = stamps.number(office.ctx), Thread(target=slow)
    thread.start()
    assert changed.wait(60)
    with office.ctx.transaction() as session:
        stamps.touch(session, office.ctx)
        session.get_one(Plan, office.plans["Skiff"]).edition += 1
    done.set()
    thread.join(60)
    assert stamps.number(office.ctx) == before + 2


def test_shippers_are_kept_away_before_anything_else_is_held(office: Office) -> None:
    with office.ctx.transaction() as session:
        locked(session, Plan, office.plans["Ketch"])
        with pytest.raises(LockedOutOfTurn):
            stamps.hold(session, office.ctx, stamps.SHIPPING)
