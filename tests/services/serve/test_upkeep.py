"""What must happen as time passes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import pytest
from sqlalchemy import select

from calm_tariff.services.base.context import provider_of
from calm_tariff.services.serve import upkeep
from calm_tariff.store.serve.call_writer import record
from calm_tariff.store.serve.usage import CallBodies, QuotaCount
from tests.office import START, Office
from tests.services.usages import usage

BODY = {"type": "text/plain", "size": 2, "cut": False, "encoding": "", "text": "ab"}


def subjects_counted(office: Office) -> int:
    with office.ctx.transaction() as session:
        return len(session.scalars(select(QuotaCount)).all())


def test_counts_are_forgotten_a_day_after_their_window_and_not_before(office: Office) -> None:
    usage(office, 5)
    assert subjects_counted(office) == 1
    # The month ends with Lisbon's September; a call of its last seconds may still be on its way.
    end = datetime(2026, 9, 30, 23, tzinfo=UTC)
    for now, left in ((START, 1), (end + timedelta(hours=23), 1), (end + timedelta(days=1, seconds=1), 0)):
        office.clock.now = now
        upkeep.forget_counts(office.ctx)
        assert subjects_counted(office) == left, now


def test_bodies_are_forgotten_after_so_many_days_however_many_there_are(
    office: Office, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(upkeep, "AT_ONCE", 3)
    calls = [office.call(office.consumers[0], START + timedelta(hours=n), n) for n in range(10)]
    with office.ctx.transaction() as session:
        record(session, [{**call, "bodies": {"sent": BODY}} for call in calls], START)
    for since, gone in ((timedelta(days=7), 0), (timedelta(days=7, hours=6, seconds=1), 7)):
        office.clock.now = START + since
        assert upkeep.forget_bodies(office.ctx) == gone
    with office.ctx.transaction() as session:  # as the settings say
        provider_of(session).body_days = 10
    for since, gone in ((timedelta(days=8), 0), (timedelta(days=11), 3)):
        office.clock.now = START + since
        assert upkeep.forget_bodies(office.ctx) == gone
    with office.ctx.transaction() as session:
        assert session.scalars(select(CallBodies)).all() == []
