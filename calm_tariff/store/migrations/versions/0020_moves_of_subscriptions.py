"""Moves of subscriptions: pauses, what is to come, and requests for another plan"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0020"
down_revision = "0019"


def upgrade() -> None:
    moment = mysql.DATETIME(fsp=6)
    op.create_table(
        "pause",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), nullable=False),
        sa.Column("start_at", moment, nullable=False),
        sa.Column("end_at", moment, nullable=True),
        sa.ForeignKeyConstraint(
            ["subscription_id"], ["subscription.id"], name=op.f("fk_pause_subscription_id_subscription")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_pause")),
    )
    op.create_index(op.f("ix_pause_subscription_id"), "pause", ["subscription_id"], unique=False)
    op.create_table(
        "coming_move",
        sa.Column("subscription_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("at", moment, nullable=False),
        sa.Column("plan_id", sa.BigInteger(), nullable=True),
        sa.Column("made_at", moment, nullable=False),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.Column("rest", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(
            ["subscription_id"], ["subscription.id"], name=op.f("fk_coming_move_subscription_id_subscription")
        ),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_coming_move_plan_id_plan")),
        sa.PrimaryKeyConstraint("subscription_id", name=op.f("pk_coming_move")),
    )
    op.add_column("subscription", sa.Column("end_told", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.alter_column(
        "subscription", "end_told", server_default=None, existing_type=sa.Boolean(), existing_nullable=False
    )
    op.add_column("access_request", sa.Column("moves_id", sa.BigInteger(), nullable=True))
    op.add_column("access_request", sa.Column("moves_when", sa.String(10), nullable=True))
    op.create_foreign_key(
        op.f("fk_access_request_moves_id_subscription"), "access_request", "subscription", ["moves_id"], ["id"]
    )
