"""Charge runs go on by themselves and can be stopped; drafts are reviewed by what of them is out of the ordinary"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0045"
down_revision = "0044"


def upgrade() -> None:
    for column, kind, before in (
        ("kind", sa.String(40), "draft"),
        ("state", sa.String(40), "done"),
        ("identity", sa.String(200), ""),
        ("done", sa.Integer(), "0"),
        ("left_alone", sa.Integer(), "0"),
        ("nothing_due", sa.Integer(), "0"),
    ):
        op.add_column("charge_run", sa.Column(column, kind, nullable=False, server_default=before))
        op.alter_column("charge_run", column, existing_type=kind, existing_nullable=False, server_default=None)
    for column in ("planned", "late_of", "refused"):
        op.add_column("charge_run", sa.Column(column, sa.JSON(), nullable=True))
        op.execute(f"UPDATE charge_run SET {column} = '[]'")
        op.alter_column("charge_run", column, existing_type=sa.JSON(), nullable=False)
    op.execute("UPDATE charge_run SET done = invoices")
    op.add_column("charge_run", sa.Column("ended_at", mysql.DATETIME(fsp=6), nullable=True))
    op.execute("UPDATE charge_run SET ended_at = started_at")
    of_those_running = sa.Computed("if(state = 'running', period_start, null)", persisted=True)
    op.add_column("charge_run", sa.Column("going", sa.Date(), of_those_running, nullable=True))
    op.create_unique_constraint(op.f("uq_charge_run_going"), "charge_run", ["going"])
    op.create_table(
        "draft_review",
        sa.Column("document_id", sa.BigInteger(), nullable=False),
        sa.Column("weight", sa.Integer(), nullable=False),
        sa.Column("findings", sa.JSON(), nullable=False),
        sa.Column("last_month", sa.Numeric(precision=24, scale=4), nullable=True),
        sa.Column("held_by", sa.String(200), nullable=False),
        sa.Column("held_why", sa.Text(), nullable=False),
        sa.Column("held_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.ForeignKeyConstraint(["document_id"], ["money_document.id"], name=op.f("fk_draft_review_document_id")),
        sa.PrimaryKeyConstraint("document_id", name=op.f("pk_draft_review")),
    )
    op.create_index("ix_draft_review_weight", "draft_review", ["weight"])
    op.add_column("provider", sa.Column("review_percent", sa.Integer(), nullable=False, server_default="30"))
    op.add_column("provider", sa.Column("charge_after_days", sa.Integer(), nullable=True))
    # Drafts there are were looked at by nobody in this way yet.
    op.execute(
        "INSERT INTO draft_review (document_id, weight, findings, held_by, held_why) "
        "SELECT id, 0, '[]', '', '' FROM money_document WHERE kind = 'invoice' AND state = 'draft'"
    )
