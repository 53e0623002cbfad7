"""What happens is told to those who listen, at endpoints of their own"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0038"
down_revision = "0037"

_MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "event",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("type", sa.String(40), nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.Column("subject_kind", sa.String(40), nullable=False),
        sa.Column("subject_id", sa.BigInteger(), nullable=False),
        sa.Column("subject", sa.String(200), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=True),
        sa.Column("by", sa.String(200), nullable=False),
        sa.Column("actor", sa.String(200), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("detail", sa.JSON(), nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_event")),
    )
    op.create_index(op.f("ix_event_at"), "event", ["at"], unique=False)
    op.create_index("ix_event_type", "event", ["type", "id"], unique=False)
    op.create_table(
        "event_endpoint",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("form", sa.String(40), nullable=False),
        sa.Column("shown", sa.Text(), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("wants", sa.JSON(), nullable=False),
        sa.Column("secret", sa.Text(), nullable=False),
        sa.Column("former_secret", sa.Text(), nullable=True),
        sa.Column("former_until", _MOMENT, nullable=True),
        sa.Column("on", sa.Boolean(), nullable=False),
        sa.Column("off_why", sa.String(200), nullable=False),
        sa.Column("told_until", sa.BigInteger(), nullable=False),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.Column("made_at", _MOMENT, nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_event_endpoint")),
    )
    op.create_table(
        "event_delivery",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("endpoint_id", sa.BigInteger(), nullable=False),
        sa.Column("event_id", sa.BigInteger(), nullable=False),
        sa.Column("what", sa.String(40), nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.Column("status", sa.Integer(), nullable=True),
        sa.Column("answer", sa.Text(), nullable=False),
        sa.Column("took_ms", sa.Integer(), nullable=False),
        sa.Column("taken", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(
            ["endpoint_id"], ["event_endpoint.id"], name=op.f("fk_event_delivery_endpoint_id_event_endpoint")
        ),
        sa.ForeignKeyConstraint(["event_id"], ["event.id"], name=op.f("fk_event_delivery_event_id_event")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_event_delivery")),
    )
    op.create_index("ix_event_delivery_endpoint", "event_delivery", ["endpoint_id", "id"], unique=False)
    for name in ("event_id", "at"):
        op.create_index(op.f(f"ix_event_delivery_{name}"), "event_delivery", [name], unique=False)
    op.create_table(
        "allowance_told",
        sa.Column("subscription_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("allowance", sa.String(200), nullable=False),
        sa.Column("window_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("percent", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.ForeignKeyConstraint(
            ["subscription_id"], ["subscription.id"], name=op.f("fk_allowance_told_subscription_id_subscription")
        ),
        sa.PrimaryKeyConstraint("subscription_id", "allowance", "window_us", "percent", name=op.f("pk_allowance_told")),
    )
    op.create_index(op.f("ix_allowance_told_at"), "allowance_told", ["at"], unique=False)
