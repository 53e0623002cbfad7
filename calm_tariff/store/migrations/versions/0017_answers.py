"""How well APIs answer, by day: from what is recorded of their calls"""

from collections.abc import Iterator
from fractions import Fraction

import sqlalchemy as sa
from alembic import op

revision = "0017"
down_revision = "0016"
DAY = 86_400_000_000


def ends() -> Iterator[int]:
    """The ends of the bands, as core.answering has them; `INTERVAL` counts those that a duration passes."""
    end = Fraction(100)
    while end < 100_000_000:
        yield int(end)
        end = Fraction(int(end * Fraction(101, 99) * 10**12), 10**12)
    yield 100_000_000


def upgrade() -> None:
    op.create_table(
        "daily_answers",
        sa.Column("day_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("operation_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("failed", sa.Boolean(), autoincrement=False, nullable=False),
        sa.Column("band", sa.SmallInteger(), autoincrement=False, nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("day_us", "operation_id", "failed", "band", name=op.f("pk_daily_answers")),
    )
    passed = f"INTERVAL(GREATEST(took_us - wait_us, 0) - 1, {', '.join(map(str, ends()))})"
    op.execute(
        f"INSERT INTO daily_answers SELECT at_us - at_us % {DAY}, operation_id, status >= 500, {passed}, COUNT(*) "
        "FROM `call` WHERE verdict <> 'refused' AND environment = 'live' AND operation_id IS NOT NULL "
        "GROUP BY 1, 2, 3, 4"
    )
