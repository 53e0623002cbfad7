"""Alerts that consumers set, where they are sent, and which notices come by mail"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0023"
down_revision = "0022"


def upgrade() -> None:
    moment = mysql.DATETIME(fsp=6)
    op.create_table(
        "alert",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), nullable=True),
        sa.Column("allowance", sa.String(200), nullable=True),
        sa.Column("percent", sa.Integer(), nullable=True),
        sa.Column("amount", sa.Numeric(24, 4), nullable=True),
        sa.Column("made_by_id", sa.BigInteger(), nullable=False),
        sa.Column("made_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_alert_consumer_id_consumer")),
        sa.ForeignKeyConstraint(
            ["subscription_id"], ["subscription.id"], name=op.f("fk_alert_subscription_id_subscription")
        ),
        sa.ForeignKeyConstraint(["made_by_id"], ["member.id"], name=op.f("fk_alert_made_by_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_alert")),
    )
    op.create_index(op.f("ix_alert_consumer_id"), "alert", ["consumer_id"], unique=False)
    op.create_table(
        "alert_reached",
        sa.Column("alert_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("window_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("seen_at", moment, nullable=False),
        sa.Column("call_id", sa.String(26), nullable=True),
        sa.Column("value", sa.Numeric(30, 6), nullable=False),
        sa.ForeignKeyConstraint(["alert_id"], ["alert.id"], name=op.f("fk_alert_reached_alert_id_alert")),
        sa.PrimaryKeyConstraint("alert_id", "window_us", name=op.f("pk_alert_reached")),
    )
    op.create_table(
        "alert_hook",
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("url", sa.String(200), nullable=False),
        sa.Column("sealed", sa.Text(), nullable=False),
        sa.Column("set_by", sa.String(200), nullable=False),
        sa.Column("set_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_alert_hook_consumer_id_consumer")),
        sa.PrimaryKeyConstraint("consumer_id", name=op.f("pk_alert_hook")),
    )
    op.create_table(
        "notice_choice",
        sa.Column("audience", sa.String(40), nullable=False),
        sa.Column("audience_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("group", sa.String(40), nullable=False),
        sa.Column("by_mail", sa.Boolean(), nullable=False),
        sa.PrimaryKeyConstraint("audience", "audience_id", "group", name=op.f("pk_notice_choice")),
    )
