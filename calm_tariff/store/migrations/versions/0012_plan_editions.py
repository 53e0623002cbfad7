"""A plan's edition rises with whatever is done to its terms, so that none is mistaken for an earlier one; what follows a
trial of units is known by when it is due

Trials that run keep what follows them as it was when this is applied."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0012"
down_revision = "0011"


def upgrade() -> None:
    op.add_column("plan", sa.Column("edition", sa.Integer(), nullable=False, server_default="1"))
    op.drop_column("plan_draft", "edition")
    op.add_column("stay", sa.Column("due_at", mysql.DATETIME(fsp=6), nullable=True))
