"""What the column types keep: moments to the microsecond in UTC, money and units to the last place."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select
from sqlalchemy.exc import StatementError

from calm_tariff.services.base.context import Context
from calm_tariff.store.base.record import Mail
from calm_tariff.store.serve.usage import QuotaCount


@pytest.mark.parametrize(
    "moment",
    [
        datetime(2026, 9, 10, 12, 0, 0, 123456, tzinfo=UTC),
        datetime(2026, 10, 25, 1, 30, tzinfo=ZoneInfo("Europe/Lisbon")),  # an hour that comes twice
        datetime(2026, 10, 25, 1, 30, fold=1, tzinfo=ZoneInfo("Europe/Lisbon")),
        datetime(2026, 9, 10, 23, 59, 59, 999999, tzinfo=ZoneInfo("Asia/Tokyo")),
    ],
)
def test_a_moment_is_the_same_instant_when_it_is_read_whatever_zone_it_was_told_in(ctx: Context, moment) -> None:
    with ctx.transaction() as session:
        session.add(Mail(recipient="a@test.example", subject="s", body="b", created_at=moment))
    with ctx.transaction() as session:
        read = session.scalars(select(Mail.created_at)).one()
        assert read == moment.astimezone(UTC) and read.tzinfo is UTC
        assert session.scalars(select(Mail.sent_at)).one() is None


def test_a_moment_of_no_zone_is_read_as_this_machines_and_never_silently_as_another(ctx: Context) -> None:
    naive = datetime(2026, 9, 10, 12)
    with ctx.transaction() as session:
        session.add(Mail(recipient="a@test.example", subject="s", body="b", created_at=naive))
    with ctx.transaction() as session:
        assert session.scalars(select(Mail.created_at)).one() == naive.astimezone(UTC)


def test_units_are_kept_to_the_millionth(ctx: Context) -> None:
    units = Decimal("123456789012345678901234.000001")
    with ctx.transaction() as session:
        session.add(
            QuotaCount(place="p", scope_place="s", scope="s", subject="", begin_us=0, end_us=2**62, units=units)
        )
    with ctx.transaction() as session:
        assert session.scalars(select(QuotaCount.units)).one() == units
        assert session.scalars(select(QuotaCount.end_us)).one() == 2**62


def test_what_is_no_moment_is_refused_before_it_is_sent(ctx: Context) -> None:
    with ctx.sessions() as session:
        session.add(Mail(recipient="a@test.example", subject="s", body="b", created_at="yesterday"))
        with pytest.raises(StatementError):
            session.flush()
