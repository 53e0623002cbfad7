"""Attempts to sign in are counted"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0009"
down_revision = "0008"


def upgrade() -> None:
    op.create_table(
        "attempts",
        sa.Column("place", sa.String(64), primary_key=True),
        sa.Column("made", sa.Integer(), nullable=False),
        sa.Column("expires_at", mysql.DATETIME(fsp=6), nullable=False),
    )
    op.create_index("ix_attempts_expires_at", "attempts", ["expires_at"])
