"""What must happen as time passes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import select

from calm_tariff.services.serve import upkeep
from calm_tariff.store.serve.usage import QuotaCount
from tests.office import START, Office
from tests.services.usages import usage


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
