"""Sums of whole days and indexes in the order of the log, so that figures stay quick however much is recorded; and
repeats that were set aside"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0004"
down_revision = "0003"
DAY = 86_400_000_000


def upgrade() -> None:
    op.create_table(
        "daily_usage",
        sa.Column("day_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("stay_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("meter_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("units", sa.Numeric(precision=30, scale=6), nullable=False),
        sa.PrimaryKeyConstraint("day_us", "subscription_id", "stay_id", "meter_id", name=op.f("pk_daily_usage")),
    )
    op.create_index("ix_daily_usage_subscription", "daily_usage", ["subscription_id", "day_us"], unique=False)
    op.create_table(
        "daily_verdicts",
        sa.Column("day_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("verdict", sa.String(length=8), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("day_us", "consumer_id", "verdict", name=op.f("pk_daily_verdicts")),
    )
    op.create_index("ix_daily_verdicts_consumer", "daily_verdicts", ["consumer_id", "day_us"], unique=False)
    op.execute(
        f"INSERT INTO daily_usage SELECT hour_us - hour_us % {DAY}, subscription_id, stay_id, meter_id, SUM(calls), "
        "SUM(units) FROM hourly_usage GROUP BY 1, 2, 3, 4"
    )
    op.execute(
        f"INSERT INTO daily_verdicts SELECT hour_us - hour_us % {DAY}, consumer_id, verdict, SUM(calls) "
        "FROM hourly_verdicts GROUP BY 1, 2, 3"
    )
    op.execute(
        "ALTER TABLE `call` DROP INDEX ix_call_at, DROP INDEX ix_call_subscription_at, DROP INDEX ix_call_consumer_at, "
        "ADD INDEX ix_call_at (at_us, call_id), "
        "ADD INDEX ix_call_subscription_at (subscription_id, at_us, call_id), "
        "ADD INDEX ix_call_consumer_at (consumer_id, at_us, call_id)"
    )
    op.create_table(
        "set_aside",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("call_id", sa.String(length=26), nullable=False),
        sa.Column("digest", sa.String(length=64), nullable=False),
        sa.Column("seen_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("source", sa.String(length=40), nullable=False),
        sa.Column("differs", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_set_aside")),
        sa.UniqueConstraint("call_id", "digest", name=op.f("uq_set_aside_call_id_digest")),
    )
