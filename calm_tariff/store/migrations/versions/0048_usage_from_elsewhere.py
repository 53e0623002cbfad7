"""Calls that other gateways counted, and the files they come with"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0048"
down_revision = "0047"

MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "usage_file",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("stage", sa.String(40), nullable=False),
        sa.Column("layout", sa.JSON(), nullable=False),
        sa.Column("sources", sa.JSON(), nullable=False),
        sa.Column("brought_by", sa.String(200), nullable=False),
        sa.Column("identity", sa.String(60), nullable=False),
        sa.Column("brought_at", MOMENT, nullable=False),
        sa.Column("touched_at", MOMENT, nullable=False),
        sa.Column("parts", sa.Integer(), nullable=False),
        sa.Column("parts_done", sa.Integer(), nullable=False),
        sa.Column("rows", sa.Integer(), nullable=False),
        sa.Column("usable", sa.Integer(), nullable=False),
        sa.Column("known", sa.Integer(), nullable=False),
        sa.Column("unusable", sa.Integer(), nullable=False),
        sa.Column("recorded", sa.Integer(), nullable=False),
        sa.Column("differing", sa.Integer(), nullable=False),
        sa.Column("tally", sa.JSON(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_usage_file")),
    )
    op.create_table(
        "usage_file_part",
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("nth", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("first", sa.Integer(), nullable=False),
        sa.Column("packed", mysql.LONGBLOB(), nullable=False),
        sa.Column("fresh", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["file_id"], ["usage_file.id"], name=op.f("fk_usage_file_part_file_id")),
        sa.PrimaryKeyConstraint("file_id", "nth", name=op.f("pk_usage_file_part")),
    )
    op.create_table(
        "usage_file_row",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["file_id"], ["usage_file.id"], name=op.f("fk_usage_file_row_file_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_usage_file_row")),
        sa.UniqueConstraint("file_id", "line", name=op.f("uq_usage_file_row_file_id_line")),
    )
    op.create_table(
        "usage_source",
        sa.Column("name", sa.String(60), nullable=False),
        sa.Column("file_id", sa.BigInteger(), nullable=False),
        sa.Column("changed_at", MOMENT, nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_usage_source")),
    )
    # Neither makes the rows that are there anew, however many there are.
    op.execute(
        "ALTER TABLE `call` MODIFY `source` VARCHAR(60) NOT NULL, ADD COLUMN `outside_id` VARCHAR(200) NULL, "
        "ADD COLUMN `usage_file_id` BIGINT NULL, ALGORITHM=INSTANT"
    )
    op.execute("ALTER TABLE set_aside MODIFY `source` VARCHAR(60) NOT NULL, ALGORITHM=INSTANT")
