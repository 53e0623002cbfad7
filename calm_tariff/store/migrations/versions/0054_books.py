"""The books as they were looked through"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0054"
down_revision = "0053"

MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "books_audit",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("asked_by", sa.String(200), nullable=False),
        sa.Column("asked_at", MOMENT, nullable=False),
        sa.Column("at", MOMENT, nullable=True),
        sa.Column("ended_at", MOMENT, nullable=True),
        sa.Column("planned", sa.Integer(), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("proofs", sa.JSON(), nullable=False),
        sa.Column("calls", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_books_audit")),
    )
    op.create_index("ix_books_audit_state", "books_audit", ["state"])
    op.create_table(
        "book_sum",
        sa.Column("audit_id", sa.BigInteger(), nullable=False),
        sa.Column("period_start", sa.Date(), nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("meter_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("recorded", sa.Numeric(30, 6), nullable=True),
        *(
            sa.Column(name, sa.Numeric(30, 6), nullable=False)
            for name in ("charged", "nothing_due", "free", "running", "late")
        ),
        sa.Column("agrees", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(["audit_id"], ["books_audit.id"], name=op.f("fk_book_sum_audit_id")),
        sa.PrimaryKeyConstraint("audit_id", "period_start", "subscription_id", "meter_id", name=op.f("pk_book_sum")),
    )
    op.create_index("ix_book_sum_period", "book_sum", ["audit_id", "period_start"])
    op.create_table(
        "book_difference",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("audit_id", sa.BigInteger(), nullable=False),
        sa.Column("check", sa.String(40), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("sums", sa.JSON(), nullable=False),
        sa.Column("came_of", sa.JSON(), nullable=False),
        sa.Column("period_start", sa.Date(), nullable=True),
        *(
            sa.Column(name, sa.BigInteger(), nullable=True)
            for name in ("subscription_id", "meter_id", "consumer_id", "document_id")
        ),
        sa.ForeignKeyConstraint(["audit_id"], ["books_audit.id"], name=op.f("fk_book_difference_audit_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_book_difference")),
    )
    op.create_index("ix_book_difference_audit_id", "book_difference", ["audit_id"])
