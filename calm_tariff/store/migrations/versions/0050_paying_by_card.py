"""Cards that invoices are paid by, what is asked of them, and disputes"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0050"
down_revision = "0049"

MOMENT = mysql.DATETIME(fsp=6)
MONEY = sa.Numeric(precision=24, scale=4)


def _id() -> sa.Column[int]:
    return sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False)


def _of(table: str, name: str, to: str) -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint([name], [f"{to}.id"], name=op.f(f"fk_{table}_{name}"))


def upgrade() -> None:
    op.create_table(
        "card_page",
        _id(),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("page", sa.String(200), nullable=True),
        sa.Column("begun_by", sa.String(200), nullable=False),
        sa.Column("begun_at", MOMENT, nullable=False),
        sa.Column("over_at", MOMENT, nullable=True),
        _of("card_page", "consumer_id", "consumer"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_card_page")),
        sa.UniqueConstraint("page", name=op.f("uq_card_page_page")),
    )
    op.create_index("ix_card_page_consumer_id", "card_page", ["consumer_id"])
    op.create_table(
        "payment_card",
        _id(),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("token", sa.String(200), nullable=False),
        sa.Column("brand", sa.String(40), nullable=False),
        sa.Column("last_four", sa.String(4), nullable=False),
        sa.Column("ends_on", sa.Date(), nullable=False),
        sa.Column("added_by", sa.String(200), nullable=False),
        sa.Column("added_at", MOMENT, nullable=False),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.Column(
            "current",
            sa.BigInteger(),
            sa.Computed("if(ended_at is null, consumer_id, null)", persisted=True),
            nullable=True,
        ),
        _of("payment_card", "consumer_id", "consumer"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_payment_card")),
        sa.UniqueConstraint("current", name=op.f("uq_payment_card_current")),
    )
    op.create_index("ix_payment_card_consumer_id", "payment_card", ["consumer_id"])
    op.create_table(
        "payment_attempt",
        _id(),
        sa.Column("invoice_id", sa.BigInteger(), nullable=False),
        sa.Column("card_id", sa.BigInteger(), nullable=False),
        sa.Column("key", sa.String(40), nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("planned_by", sa.String(200), nullable=False),
        sa.Column("planned_at", MOMENT, nullable=False),
        sa.Column("tried_at", MOMENT, nullable=True),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.Column("charge", sa.String(200), nullable=True),
        sa.Column("failure", sa.String(40), nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=True),
        sa.Column(
            "going",
            sa.BigInteger(),
            sa.Computed("if(state in ('planned', 'tried'), invoice_id, null)", persisted=True),
            nullable=True,
        ),
        _of("payment_attempt", "invoice_id", "money_document"),
        _of("payment_attempt", "card_id", "payment_card"),
        _of("payment_attempt", "entry_id", "account_entry"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_payment_attempt")),
        *(sa.UniqueConstraint(n, name=op.f(f"uq_payment_attempt_{n}")) for n in ("key", "charge", "entry_id", "going")),
    )
    for name in ("invoice_id", "card_id", "state"):
        op.create_index(f"ix_payment_attempt_{name}", "payment_attempt", [name])
    op.create_table(
        "card_refund",
        _id(),
        sa.Column("attempt_id", sa.BigInteger(), nullable=False),
        sa.Column("key", sa.String(40), nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("asked_by", sa.String(200), nullable=False),
        sa.Column("asked_at", MOMENT, nullable=False),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.Column("failure", sa.String(40), nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        _of("card_refund", "attempt_id", "payment_attempt"),
        _of("card_refund", "entry_id", "account_entry"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_card_refund")),
        *(sa.UniqueConstraint(n, name=op.f(f"uq_card_refund_{n}")) for n in ("key", "entry_id")),
    )
    op.create_index("ix_card_refund_attempt_id", "card_refund", ["attempt_id"])
    op.create_table(
        "dispute",
        _id(),
        sa.Column("reference", sa.String(200), nullable=False),
        sa.Column("attempt_id", sa.BigInteger(), nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("opened_at", MOMENT, nullable=False),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.Column("entry_id", sa.BigInteger(), nullable=True),
        _of("dispute", "attempt_id", "payment_attempt"),
        _of("dispute", "entry_id", "account_entry"),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_dispute")),
        *(sa.UniqueConstraint(n, name=op.f(f"uq_dispute_{n}")) for n in ("reference", "entry_id")),
    )
    for name in ("attempt_id", "state"):
        op.create_index(f"ix_dispute_{name}", "dispute", [name])
    # A list has no default in MariaDB's JSON: it is filled in, and then required.
    op.add_column("provider", sa.Column("tries_after_days", sa.JSON(), nullable=True))
    op.execute("UPDATE provider SET tries_after_days = '[0, 1, 3, 7]'")
    op.alter_column("provider", "tries_after_days", existing_type=sa.JSON(), nullable=False)
