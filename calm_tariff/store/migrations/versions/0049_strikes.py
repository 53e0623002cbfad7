"""Calls that are struck out"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0049"
down_revision = "0048"

MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "strike",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("at", MOMENT, nullable=False),
        sa.Column("by", sa.String(200), nullable=False),
        sa.Column("identity", sa.String(60), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("wanted", sa.JSON(), nullable=False),
        sa.Column("call_ids", sa.JSON(), nullable=False),
        sa.Column("calls", sa.Integer(), nullable=False),
        sa.Column("units", sa.JSON(), nullable=False),
        sa.Column("since_us", sa.BigInteger(), nullable=False),
        sa.Column("last_us", sa.BigInteger(), nullable=False),
        sa.Column("undone_at", MOMENT, nullable=True),
        sa.Column("undone_by", sa.String(200), nullable=False),
        sa.Column("undone_why", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_strike_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_strike")),
    )
    op.create_index("ix_strike_consumer_id", "strike", ["consumer_id"])
    op.execute("ALTER TABLE `call` ADD COLUMN `strike_id` BIGINT NULL, ALGORITHM=INSTANT")
