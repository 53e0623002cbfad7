"""Statements of the bank, whose entries are matched to what is open"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0047"
down_revision = "0046"

MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "bank_statement",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("form", sa.String(40), nullable=False),
        sa.Column("iban", sa.String(40), nullable=False),
        sa.Column("brought_by", sa.String(200), nullable=False),
        sa.Column("brought_at", MOMENT, nullable=False),
        sa.Column("new", sa.Integer(), nullable=False),
        sa.Column("known", sa.Integer(), nullable=False),
        sa.Column("unread", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_bank_statement")),
    )
    op.create_table(
        "bank_entry",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("statement_id", sa.BigInteger(), nullable=False),
        sa.Column("own_iban", sa.String(40), nullable=False),
        sa.Column("reference", sa.String(140), nullable=False),
        sa.Column("booked_on", sa.Date(), nullable=False),
        sa.Column("value_on", sa.Date(), nullable=False),
        sa.Column("amount", sa.Numeric(precision=24, scale=4), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("iban", sa.String(40), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("creditor_reference", sa.String(40), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("decided_by", sa.String(200), nullable=False),
        sa.Column("decided_at", MOMENT, nullable=True),
        sa.Column("why", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["statement_id"], ["bank_statement.id"], name=op.f("fk_bank_entry_statement_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_bank_entry")),
        sa.UniqueConstraint("own_iban", "reference", name=op.f("uq_bank_entry_own_iban_reference")),
    )
    op.create_index("ix_bank_entry_statement_id", "bank_entry", ["statement_id"])
    op.create_index("ix_bank_entry_state", "bank_entry", ["state"])
    op.add_column("account_entry", sa.Column("bank_entry_id", sa.BigInteger(), nullable=True))
    name = op.f("fk_account_entry_bank_entry_id")
    op.create_foreign_key(name, "account_entry", "bank_entry", ["bank_entry_id"], ["id"])
    op.create_index("ix_account_entry_bank_entry_id", "account_entry", ["bank_entry_id"])
    op.add_column("provider", sa.Column("bank_columns", sa.JSON(), nullable=True))
