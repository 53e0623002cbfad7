"""What was new in API versions, as consumers are told"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0018"
down_revision = "0017"


def upgrade() -> None:
    op.create_table(
        "release_note",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("api_version_id", sa.BigInteger(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(
            ["api_version_id"], ["api_version.id"], name=op.f("fk_release_note_api_version_id_api_version")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_release_note")),
    )
    op.create_index("ix_release_note_version", "release_note", ["api_version_id", "day"], unique=False)
