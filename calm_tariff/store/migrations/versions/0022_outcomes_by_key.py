"""Sums of hours tell calls apart by application, key and verdict, refused ones too: made anew from recorded calls"""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
KEY = (
    "hour_us",
    "operation_id",
    "consumer_id",
    "application_id",
    "key_id",
    "environment",
    "verdict",
    "refused_by",
    "status",
)


def upgrade() -> None:
    op.drop_table("hourly_outcomes")
    op.create_table(
        "hourly_outcomes",
        sa.Column("hour_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("operation_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("application_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("key_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("environment", sa.String(40), nullable=False),
        sa.Column("verdict", sa.String(8), nullable=False),
        sa.Column("refused_by", sa.String(200, collation="utf8mb4_bin"), nullable=False),
        sa.Column("status", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("bytes_in", sa.BigInteger(), nullable=False),
        sa.Column("bytes_out", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint(*KEY, name=op.f("pk_hourly_outcomes")),
    )
    op.create_index("ix_hourly_outcomes_consumer", "hourly_outcomes", ["consumer_id", "hour_us"], unique=False)
    op.execute(
        "INSERT INTO hourly_outcomes SELECT at_us - at_us % 3600000000, COALESCE(operation_id, 0), "
        "COALESCE(consumer_id, 0), COALESCE(application_id, 0), COALESCE(key_id, 0), environment, verdict, "
        "COALESCE(refused_by, '') COLLATE utf8mb4_bin, status, COUNT(*), SUM(bytes_in), SUM(bytes_out) "
        "FROM `call` GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9"
    )
