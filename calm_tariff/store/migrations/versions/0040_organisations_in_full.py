"""Organisations have an address, a tax number and what other systems know them by, can be erased, and looked at as they
look at the portal"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0040"
down_revision = "0039"

_MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.add_column("consumer", sa.Column("address", sa.Text(), nullable=False, server_default=""))
    op.add_column("consumer", sa.Column("country", sa.String(2), nullable=False, server_default=""))
    op.add_column("consumer", sa.Column("tax_number", sa.String(40), nullable=False, server_default=""))
    for name, of in (("address", sa.Text()), ("country", sa.String(2)), ("tax_number", sa.String(40))):
        op.alter_column("consumer", name, server_default=None, existing_type=of, existing_nullable=False)
    op.add_column("consumer", sa.Column("erased_at", _MOMENT, nullable=True))
    op.add_column("member", sa.Column("erased_at", _MOMENT, nullable=True))
    op.create_table(
        "consumer_reference",
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("system", sa.String(40), nullable=False),
        sa.Column("reference", sa.String(200), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_consumer_reference_consumer_id")),
        sa.PrimaryKeyConstraint("consumer_id", "system", name=op.f("pk_consumer_reference")),
        sa.UniqueConstraint("system", "reference", name=op.f("uq_consumer_reference_system_reference")),
    )
    op.create_table(
        "looked_as",
        sa.Column("token_hash", sa.String(64), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("opened_at", _MOMENT, nullable=True),
        sa.Column("expires_at", _MOMENT, nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_looked_as_consumer_id")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_looked_as_person_id")),
        sa.PrimaryKeyConstraint("token_hash", name=op.f("pk_looked_as")),
    )
    for column in ("consumer_id", "expires_at", "person_id"):
        op.create_index(op.f(f"ix_looked_as_{column}"), "looked_as", [column], unique=False)
    op.create_index(op.f("ix_mail_recipient"), "mail", ["recipient"], unique=False)
    # Who serves can only add entries to the record; this is all that can be done to one afterwards.
    op.execute("""
        CREATE PROCEDURE empty_entry(emptied BIGINT, telling BIGINT, keeps_action BOOLEAN)
        MODIFIES SQL DATA SQL SECURITY DEFINER
        UPDATE audit_entry
        SET actor = '', action = IF(keeps_action, action, ''), subject = '', `before` = NULL, `after` = NULL,
            why = '', salt = '', erased_by = telling
        WHERE id = emptied AND erased_by IS NULL AND telling > emptied
    """)
