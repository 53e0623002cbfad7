"""A period's documents in one archive"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0052"
down_revision = "0051"

MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "bundle",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("period_start", sa.Date(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("asked_by", sa.String(200), nullable=False),
        sa.Column("asked_at", MOMENT, nullable=False),
        sa.Column("planned", sa.Integer(), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_bundle")),
    )
    for name in ("period_start", "state"):
        op.create_index(f"ix_bundle_{name}", "bundle", [name])
    op.create_table(
        "bundle_part",
        sa.Column("bundle_id", sa.BigInteger(), nullable=False),
        sa.Column("place", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("content", mysql.LONGBLOB(), nullable=False),
        sa.ForeignKeyConstraint(["bundle_id"], ["bundle.id"], name=op.f("fk_bundle_part_bundle_id")),
        sa.PrimaryKeyConstraint("bundle_id", "place", name=op.f("pk_bundle_part")),
    )
