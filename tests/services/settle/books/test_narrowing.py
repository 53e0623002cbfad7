"""Which calls are wrong by themselves, whatever their meter reads: calls, bytes, or what the back end reported."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal
from typing import Any

import pytest
from sqlalchemy import select, text

from calm_tariff.core.periods import HOUR, instant_of
from calm_tariff.services.serve import history
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.books.narrowing import CALLS, STRETCHES, CameOf
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.serve.usage import Call
from tests.office import START, Office

READ: dict[str, dict[str, Any]] = {
    "calls": {"right": "1", "wrong": "2"},
    "bytes_out": {"bytes_out": 2_500_000, "right": "2.500000", "wrong": "2.600000"},
    "bytes_in": {"bytes_in": 1, "right": "0.000001", "wrong": "1"},
    "reported": {"reported": {"X-Cells": "17.25"}, "right": "17.250000", "wrong": "17.2"},
}


def narrowed(office: Office) -> list[CameOf]:
    return [
        stretch
        for difference, stretches in audits.look_through(office.finance).narrowed
        if difference.check == "units"
        for stretch in stretches
    ]


def made(office: Office, n: int, units: str, **more: Any) -> dict[str, Any]:
    at = START + timedelta(seconds=n)
    return office.call(office.consumers[0], at, n, **{**more, "units": {str(meter_id(office)): units}})


def meter_id(office: Office) -> int:
    with office.ctx.transaction() as session:
        return session.scalars(select(Meter.id).order_by(Meter.id)).first() or 0


@pytest.mark.parametrize("measure", READ)
def test_a_call_that_says_more_than_is_read_of_it_is_named(office: Office, measure: str) -> None:
    of = {**READ[measure]}
    right, wrong = of.pop("right"), of.pop("wrong")
    with office.ctx.transaction() as session:
        meter = session.get_one(Meter, meter_id(office))
        meter.measure, meter.header = measure, "x-cells" if measure == "reported" else None
    history.take_in(office.ctx, [made(office, n, right, **of) for n in range(3)])
    assert narrowed(office) == []
    with office.ctx.transaction() as session:
        call = session.scalars(select(Call).order_by(Call.at_us)).all()[1]
        call.units = {str(meter_id(office)): wrong}
        named = call.call_id
    (stretch,) = narrowed(office)
    assert stretch.since_us <= instant_of(START) < stretch.until_us == stretch.since_us + HOUR
    assert [(w.call_id, w.says, w.reads) for w in stretch.wrong] == [(named, Decimal(wrong), Decimal(right))]


def test_only_so_many_stretches_and_calls_are_named(office: Office) -> None:
    hours, calls = STRETCHES + 3, CALLS + 2
    rows = [
        office.call(office.consumers[0], START + timedelta(hours=hour, seconds=n), hour * 1000 + n)
        for hour in range(hours)
        for n in range(calls)
    ]
    history.take_in(office.ctx, rows)
    with office.ctx.transaction() as session:
        session.execute(text("UPDATE `call` SET units = REPLACE(units, '\"1\"}', '\"3\"}')"))
    found = narrowed(office)
    assert len(found) == STRETCHES and all(len(stretch.wrong) == CALLS for stretch in found)
    assert [stretch.since_us for stretch in found] == sorted(stretch.since_us for stretch in found)
