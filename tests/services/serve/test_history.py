"""Recorded calls from elsewhere than a journal: each once, all of a history or nothing."""

from __future__ import annotations

from datetime import timedelta
from decimal import Decimal
from typing import Any

import pytest
from sqlalchemy import select

from calm_tariff.core.errors import Conflict
from calm_tariff.services.serve import history
from calm_tariff.store.serve.usage import Call, HourlyUsage
from tests.office import START, UNSAID, Office


def some(office: Office, count: int = 20) -> list[dict[str, Any]]:
    one = office.consumers[0]
    return [office.call(one, START + timedelta(minutes=n), n) for n in range(count)]


def kept(office: Office) -> tuple[set[str], Decimal]:
    """The calls there are, and the units of all hours."""
    with office.ctx.transaction() as session:
        units = sum((u.units for u in session.scalars(select(HourlyUsage))), Decimal(0))
        return set(session.scalars(select(Call.call_id))), units


def test_what_is_taken_in_twice_is_there_once(office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(history, "BATCH", 7)
    assert history.take_in(office.ctx, iter(some(office))) == 20
    assert history.take_in(office.ctx, some(office, 23)) == 3
    assert history.take_in(office.ctx, some(office)) == 0
    assert kept(office) == ({c["call_id"] for c in some(office, 23)}, Decimal(23))


def test_a_history_is_loaded_at_once_and_then_there_is_one(office: Office) -> None:
    heard: list[int] = []
    history.refuse_second(office.ctx)
    calls = [{**UNSAID, **call} for call in some(office)]
    assert history.begin_with(office.ctx, calls, heard.append) == 20 == heard[-1]
    assert history.take_in(office.ctx, some(office)) == 0
    assert kept(office) == ({c["call_id"] for c in calls}, Decimal(20))
    with pytest.raises(Conflict, match="recorded here already"):
        history.refuse_second(office.ctx)
