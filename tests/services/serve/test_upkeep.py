"""What must happen as time passes."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import select, text

from calm_tariff.core.periods import instant_of
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


def test_partitions_reach_as_far_ahead_as_asked_over_the_turn_of_a_year(office: Office) -> None:
    office.clock.now = datetime(2031, 11, 30, 23, 59, tzinfo=UTC)
    made = upkeep.prepare_partitions(office.ctx, 2)
    assert made == ["p203111", "p203112", "p203201"]
    assert upkeep.prepare_partitions(office.ctx, 2) == []
    with office.ctx.transaction() as session:
        bound = session.scalar(
            text(
                "SELECT partition_description FROM information_schema.partitions WHERE table_schema = DATABASE() "
                "AND table_name = 'call' AND partition_name = 'p203112'"
            )
        )
        for name in made:  # the schema is every test's
            session.execute(text(f"ALTER TABLE `call` DROP PARTITION {name}"))
    assert int(bound or 0) == instant_of(datetime(2032, 1, 1, tzinfo=UTC))
