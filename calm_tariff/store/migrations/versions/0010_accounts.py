"""Addresses are confirmed before an account is there, passwords can be reset, sessions end when they are not used, and
service tokens have an owner and an end

Tokens made before have no owner and end in ninety days."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0010"
down_revision = "0009"
MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.execute("DELETE FROM signed_in")
    op.add_column("signed_in", sa.Column("seen_at", MOMENT, nullable=False))
    op.create_index("ix_signed_in_person_id", "signed_in", ["person_id"])
    op.create_index("ix_signed_in_member_id", "signed_in", ["member_id"])
    op.create_table(
        "awaited_sign_up",
        sa.Column("token_hash", sa.String(64), primary_key=True),
        sa.Column("email", sa.String(200), nullable=False, index=True),
        sa.Column("expires_at", MOMENT, nullable=False, index=True),
    )
    op.create_table(
        "password_reset",
        sa.Column("token_hash", sa.String(64), primary_key=True),
        sa.Column("person_id", sa.BigInteger(), sa.ForeignKey("person.id"), nullable=True, index=True),
        sa.Column("member_id", sa.BigInteger(), sa.ForeignKey("member.id"), nullable=True, index=True),
        sa.Column("expires_at", MOMENT, nullable=False, index=True),
    )
    op.add_column("service_token", sa.Column("owner_id", sa.BigInteger(), sa.ForeignKey("person.id"), nullable=True))
    op.create_index("ix_service_token_owner_id", "service_token", ["owner_id"])
    op.add_column("service_token", sa.Column("expires_at", MOMENT, nullable=True))
    op.execute("UPDATE service_token SET expires_at = UTC_TIMESTAMP(6) + INTERVAL 90 DAY")
    op.alter_column("service_token", "expires_at", existing_type=MOMENT, nullable=False)
    op.add_column("service_token", sa.Column("used_at", MOMENT, nullable=True))
    op.add_column("service_token", sa.Column("used_from", sa.String(40), nullable=False, server_default=""))
    op.create_table(
        "service_token_place",
        sa.Column("token_id", sa.BigInteger(), sa.ForeignKey("service_token.id"), primary_key=True),
        sa.Column("address", sa.String(40), primary_key=True),
        sa.Column("first_at", MOMENT, nullable=False),
    )
    op.add_column("mail", sa.Column("confidential", sa.Boolean(), nullable=False, server_default=sa.false()))
