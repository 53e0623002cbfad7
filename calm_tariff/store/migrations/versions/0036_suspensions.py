"""Stretches in which a consumer is suspended, and notes about consumers"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0036"
down_revision = "0035"

_MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "suspension",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("start_at", _MOMENT, nullable=False),
        sa.Column("end_at", _MOMENT, nullable=True),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("suspended_by", sa.String(200), nullable=False),
        sa.Column("resumed_by", sa.String(200), nullable=True),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_suspension_consumer_id_consumer")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_suspension")),
    )
    op.create_index(op.f("ix_suspension_consumer_id"), "suspension", ["consumer_id"], unique=False)
    op.create_table(
        "consumer_note",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.Column("by", sa.String(200), nullable=False),
        sa.Column("identity", sa.String(60), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_consumer_note_consumer_id_consumer")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_consumer_note")),
    )
    op.create_index(op.f("ix_consumer_note_consumer_id"), "consumer_note", ["consumer_id"], unique=False)
