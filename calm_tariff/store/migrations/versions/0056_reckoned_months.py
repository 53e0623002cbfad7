"""What months came to when they were last reckoned"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0056"
down_revision = "0055"


def upgrade() -> None:
    op.create_table(
        "reckoned_month",
        sa.Column("period_start", sa.Date(), nullable=False),
        sa.Column("reckoned_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("charges", sa.JSON(), nullable=False),
        sa.Column("late", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("period_start", name=op.f("pk_reckoned_month")),
    )
