"""Accounts: what is owed entry by entry, and which entry closed which invoice"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0046"
down_revision = "0045"

MONEY = sa.Numeric(precision=24, scale=4)
MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    settings()
    entries()
    allocations()
    write_offs()
    reminders()
    pauses()
    what_there_is()


def settings() -> None:
    op.add_column("provider", sa.Column("reminders_after_days", sa.JSON(), nullable=True))
    op.execute("UPDATE provider SET reminders_after_days = '[]'")
    op.alter_column("provider", "reminders_after_days", existing_type=sa.JSON(), nullable=False)
    op.add_column("provider", sa.Column("pause_after_days", sa.Integer(), nullable=True))
    op.add_column("provider", sa.Column("write_off_limit", MONEY, nullable=True))
    for column in ("iban", "bic"):
        op.add_column("provider", sa.Column(column, sa.String(40), nullable=False, server_default=""))


def entries() -> None:
    of_documents = ("document_id", "invoice_id")
    op.create_table(
        "account_entry",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("on", sa.Date(), nullable=False),
        sa.Column("at", MOMENT, nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        sa.Column("left", MONEY, nullable=True),
        *(sa.Column(column, sa.BigInteger(), nullable=True) for column in (*of_documents, "returned_id")),
        sa.Column("paid_by", sa.String(40), nullable=False),
        sa.Column("value_on", sa.Date(), nullable=True),
        sa.Column("reference", sa.String(200), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_account_entry_consumer_id")),
        *(
            sa.ForeignKeyConstraint([column], ["money_document.id"], name=op.f(f"fk_account_entry_{column}"))
            for column in of_documents
        ),
        sa.ForeignKeyConstraint(["returned_id"], ["account_entry.id"], name=op.f("fk_account_entry_returned_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_account_entry")),
        sa.UniqueConstraint("document_id", name=op.f("uq_account_entry_document_id")),
        sa.UniqueConstraint("returned_id", name=op.f("uq_account_entry_returned_id")),
    )
    for column in ("consumer_id", "invoice_id", "left"):
        op.create_index(f"ix_account_entry_{column}", "account_entry", [column])


def allocations() -> None:
    others = (("entry_id", "account_entry"), ("invoice_id", "money_document"), ("by_id", "account_entry"))
    op.create_table(
        "allocation",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("invoice_id", sa.BigInteger(), nullable=True),
        sa.Column("by_id", sa.BigInteger(), nullable=True),
        sa.Column("on", sa.Date(), nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        *(
            sa.ForeignKeyConstraint([column], [f"{other}.id"], name=op.f(f"fk_allocation_{column}"))
            for column, other in others
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_allocation")),
    )
    for column, _ in others:
        op.create_index(f"ix_allocation_{column}", "allocation", [column])
    op.add_column("money_document", sa.Column("open_amount", MONEY, nullable=True))
    op.create_index("ix_money_document_open_amount", "money_document", ["open_amount"])


def write_offs() -> None:
    op.create_table(
        "write_off",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("invoice_id", sa.BigInteger(), nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.Column("made_by_identity", sa.String(200), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.Column("agreed_by", sa.String(200), nullable=False),
        sa.Column("agreed_at", MOMENT, nullable=True),
        sa.ForeignKeyConstraint(["invoice_id"], ["money_document.id"], name=op.f("fk_write_off_invoice_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_write_off")),
    )
    op.create_index("ix_write_off_invoice_id", "write_off", ["invoice_id"])
    op.create_index("ix_write_off_state", "write_off", ["state"])


def reminders() -> None:
    op.create_table(
        "reminder",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("invoice_id", sa.BigInteger(), nullable=False),
        sa.Column("after_days", sa.Integer(), nullable=False),
        sa.Column("sent_at", MOMENT, nullable=False),
        sa.Column("open_amount", MONEY, nullable=False),
        sa.ForeignKeyConstraint(["invoice_id"], ["money_document.id"], name=op.f("fk_reminder_invoice_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_reminder")),
        sa.UniqueConstraint("invoice_id", "after_days", name=op.f("uq_reminder_invoice_id_after_days")),
    )


def pauses() -> None:
    op.create_table(
        "payment_pause",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("start_at", MOMENT, nullable=False),
        sa.Column("end_at", MOMENT, nullable=True),
        sa.Column("invoice", sa.String(40), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_payment_pause_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_payment_pause")),
    )
    op.create_index("ix_payment_pause_consumer_id", "payment_pause", ["consumer_id"])


def what_there_is() -> None:
    """Every issued document is an entry, in the order of issue; a credit note went to its invoice, for nothing was paid
    yet. Days are the provider's; where the server does not know its time zone, they are those of UTC."""
    zone = "(SELECT time_zone FROM provider LIMIT 1)"
    day = f"date(coalesce(convert_tz(issued_at, '+00:00', {zone}), issued_at))"
    what = f"consumer_id, kind, {day}, issued_at, total, if(kind = 'invoice', NULL, 0), id, coalesce(corrects_id, id)"
    op.execute(
        "INSERT INTO account_entry (consumer_id, kind, `on`, at, amount, `left`, document_id, invoice_id, paid_by, "
        f"reference, reason, made_by) SELECT {what}, '', '', '', '' FROM money_document "
        "WHERE issued_at IS NOT NULL AND total > 0 ORDER BY issued_at, id"
    )
    op.execute(
        "INSERT INTO allocation (entry_id, invoice_id, by_id, `on`, amount) "
        "SELECT id, invoice_id, id, `on`, amount FROM account_entry WHERE kind = 'credit note' ORDER BY id"
    )
    op.execute("UPDATE money_document SET open_amount = 0 WHERE kind = 'invoice'")
    op.execute(
        "UPDATE money_document AS d JOIN account_entry AS e ON e.document_id = d.id AND e.kind = 'invoice' "
        "SET d.open_amount = d.total - coalesce((SELECT sum(amount) FROM allocation WHERE invoice_id = d.id), 0)"
    )
