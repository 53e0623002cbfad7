"""Consumers and what is theirs are brought in from files"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0041"
down_revision = "0040"

_MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "import",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("stage", sa.String(40), nullable=False),
        sa.Column("letters", sa.Boolean(), nullable=False),
        sa.Column("begun_at", _MOMENT, nullable=False),
        sa.Column("begun_by", sa.String(200), nullable=False),
        sa.Column("identity", sa.String(60), nullable=False),
        sa.Column("touched_at", _MOMENT, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_import")),
    )
    op.create_table(
        "import_row",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("import_id", sa.BigInteger(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
        sa.Column("cells", sa.JSON(), nullable=False),
        sa.Column("about", sa.String(200), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=True),
        sa.ForeignKeyConstraint(["import_id"], ["import.id"], name=op.f("fk_import_row_import_id")),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_import_row_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_import_row")),
    )
    op.create_index("ix_import_row_state", "import_row", ["import_id", "state", "id"], unique=False)
    op.create_index(op.f("ix_import_row_consumer_id"), "import_row", ["consumer_id"], unique=False)
