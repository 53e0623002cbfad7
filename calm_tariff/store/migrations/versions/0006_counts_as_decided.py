"""Counts as they decided: what each quota let in is kept with the call and summed beside it

A trial knows whether its units ended it, a product whether allowances start anew over a move."""

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"


def upgrade() -> None:
    for name in ("counted", "reported"):
        op.add_column("call", sa.Column(name, sa.JSON(), nullable=False, server_default="{}"))
    op.create_table(
        "quota_count",
        sa.Column("place", sa.String(64), primary_key=True),
        sa.Column("scope_place", sa.String(64), nullable=False),
        sa.Column("scope", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("begin_us", sa.BigInteger(), nullable=False),
        sa.Column("end_us", sa.BigInteger(), nullable=False),
        sa.Column("units", sa.Numeric(30, 6), nullable=False),
    )
    op.create_index("ix_quota_count_end", "quota_count", ["end_us"])
    op.create_index("ix_quota_count_scope", "quota_count", ["scope_place"])
    op.add_column("stay", sa.Column("spent", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("product", sa.Column("moves_anew", sa.Boolean(), nullable=False, server_default=sa.false()))
