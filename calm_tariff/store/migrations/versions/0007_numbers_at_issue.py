"""Numbers are given at issue, lines know their stay and what they open into, idempotency belongs to who asks

Numbers given before stay as they are; drafts lose theirs."""

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"


def upgrade() -> None:
    op.alter_column("invoice", "number", existing_type=sa.String(30), nullable=True)
    op.execute("UPDATE invoice SET number = NULL WHERE state = 'draft'")
    op.create_table(
        "number_series",
        sa.Column("kind", sa.String(40), primary_key=True),
        sa.Column("year", sa.Integer(), autoincrement=False, primary_key=True),
        sa.Column("last", sa.Integer(), nullable=False),
    )
    op.add_column("invoice_line", sa.Column("stay_id", sa.BigInteger(), nullable=True))
    op.add_column("invoice_line", sa.Column("by_day", sa.JSON(), nullable=True))
    op.execute("DELETE FROM answered")
