"""Issued documents as files, with who issued them to whom as they were known then"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0051"
down_revision = "0050"

MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "document_file",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("document_id", sa.BigInteger(), nullable=False),
        sa.Column("form", sa.String(40), nullable=False),
        sa.Column("content", mysql.LONGBLOB(), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.ForeignKeyConstraint(["document_id"], ["money_document.id"], name=op.f("fk_document_file_document_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_document_file")),
        sa.UniqueConstraint("document_id", "form", name=op.f("uq_document_file_document_id_form")),
    )
    # Documents that were issued before have none: they are written with who is known when that is done.
    op.add_column("money_document", sa.Column("parties", sa.JSON(), nullable=True))
    op.add_column("mail", sa.Column("encloses", sa.BigInteger(), nullable=True))
