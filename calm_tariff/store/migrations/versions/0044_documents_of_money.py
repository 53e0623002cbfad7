"""Beside invoices there are credit notes; lines say how they are taxed and what they correct; adjustments"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0044"
down_revision = "0043"

MONEY = sa.Numeric(precision=24, scale=4)
PERCENT = sa.Numeric(precision=7, scale=4)
# The foreign keys of the two tables that change their names: column and table it points to.
OF_DOCUMENTS = (("consumer_id", "consumer"), ("run_id", "charge_run"))
OF_LINES = (
    ("document_id", "money_document"),
    ("meter_id", "meter"),
    ("revision_id", "plan_revision"),
    ("subscription_id", "subscription"),
)


def upgrade() -> None:
    settings()
    adjustments()
    documents()
    lines()
    tax_groups()
    op.drop_column("money_document", "tax_percent")


def settings() -> None:
    op.add_column("provider", sa.Column("credit_note_prefix", sa.String(10), nullable=False, server_default="CN"))
    op.add_column("provider", sa.Column("country", sa.String(2), nullable=False, server_default=""))
    op.add_column("provider", sa.Column("tax_number", sa.String(40), nullable=False, server_default=""))
    op.add_column("provider", sa.Column("tax_changes", sa.JSON(), nullable=True))
    op.execute("UPDATE provider SET tax_changes = '[]'")
    op.alter_column("provider", "tax_changes", existing_type=sa.JSON(), nullable=False)
    op.add_column("provider", sa.Column("zero_invoices", sa.Boolean(), nullable=False, server_default=sa.false()))
    op.add_column("provider", sa.Column("adjustment_limit", MONEY, nullable=True))
    op.add_column("consumer", sa.Column("tax_treatment", sa.String(40), nullable=False, server_default="standard"))
    op.add_column("consumer", sa.Column("tax_note", sa.String(200), nullable=False, server_default=""))


def adjustments() -> None:
    op.create_table(
        "adjustment",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("period_start", sa.Date(), nullable=False),
        sa.Column("amount", MONEY, nullable=False),
        sa.Column("treatment", sa.String(40), nullable=False),
        sa.Column("words", sa.String(200), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.Column("made_by_identity", sa.String(200), nullable=False),
        sa.Column("made_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("agreed_by", sa.String(200), nullable=False),
        sa.Column("agreed_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_adjustment_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_adjustment")),
    )
    op.create_index("ix_adjustment_period_start", "adjustment", ["period_start"])


def documents() -> None:
    for column, _ in OF_DOCUMENTS:
        op.drop_constraint(f"fk_invoice_{column}", "invoice", type_="foreignkey")
    op.drop_constraint("fk_invoice_line_invoice_id", "invoice_line", type_="foreignkey")
    op.rename_table("invoice", "money_document")
    table = "money_document"
    op.add_column(table, sa.Column("kind", sa.String(40), nullable=False, server_default="invoice"))
    op.alter_column(table, "kind", existing_type=sa.String(40), server_default=None)
    of_invoices = sa.Computed("if(kind = 'invoice', period_start, null)", persisted=True)
    op.add_column(table, sa.Column("invoiced_period", sa.Date(), of_invoices, nullable=True))
    op.create_unique_constraint(
        op.f("uq_money_document_consumer_id_invoiced_period"), table, ["consumer_id", "invoiced_period"]
    )
    op.drop_constraint("uq_invoice_consumer_id_period_start", table, type_="unique")
    op.create_unique_constraint(op.f("uq_money_document_number"), table, ["number"])
    op.drop_constraint("uq_invoice_number", table, type_="unique")
    for column, other in OF_DOCUMENTS:
        op.create_foreign_key(op.f(f"fk_money_document_{column}"), table, other, [column], ["id"])
    op.create_index("ix_money_document_period_start", table, ["period_start"])
    for column in ("fk_invoice_run_id", "fk_invoice_consumer_id"):
        op.execute(f"DROP INDEX IF EXISTS {column} ON {table}")
    # What only an invoice has is there of no other document.
    op.alter_column(table, "run_id", existing_type=sa.BigInteger(), nullable=True)
    op.alter_column(table, "evidence", existing_type=sa.JSON(), nullable=True)
    op.alter_column(table, "order_number", existing_type=sa.String(40), nullable=True)
    op.add_column(table, sa.Column("late_cases", sa.JSON(), nullable=True))
    op.execute(f"UPDATE {table} SET late_cases = '{{}}'")
    op.add_column(table, sa.Column("corrects_id", sa.BigInteger(), nullable=True))
    op.create_foreign_key(op.f("fk_money_document_corrects_id"), table, table, ["corrects_id"], ["id"])
    op.create_index("ix_money_document_corrects_id", table, ["corrects_id"])
    op.add_column(table, sa.Column("reason", sa.Text(), nullable=True))
    op.add_column(table, sa.Column("chargeable_again", sa.Boolean(), nullable=True))


def lines() -> None:
    for column in ("meter_id", "revision_id", "subscription_id"):
        op.drop_constraint(f"fk_invoice_line_{column}", "invoice_line", type_="foreignkey")
    op.rename_table("invoice_line", "money_line")
    table = "money_line"
    op.alter_column(table, "invoice_id", new_column_name="document_id", existing_type=sa.BigInteger(), nullable=False)
    op.create_unique_constraint(op.f("uq_money_line_document_id_place"), table, ["document_id", "place"])
    op.drop_constraint("uq_invoice_line_invoice_id_place", table, type_="unique")
    for column, other in OF_LINES:
        op.execute(f"DROP INDEX IF EXISTS fk_invoice_line_{column} ON {table}")
        op.create_foreign_key(op.f(f"fk_money_line_{column}"), table, other, [column], ["id"])
    op.add_column(table, sa.Column("sort", sa.String(40), nullable=False, server_default="own"))
    op.alter_column(table, "sort", existing_type=sa.String(40), server_default=None)
    op.add_column(table, sa.Column("belongs_to", sa.Date(), nullable=True))
    op.add_column(table, sa.Column("nth", sa.Integer(), nullable=False, server_default="0"))
    op.add_column(table, sa.Column("treatment", sa.String(40), nullable=False, server_default="standard"))
    op.alter_column(table, "treatment", existing_type=sa.String(40), server_default=None)
    op.add_column(table, sa.Column("percent", PERCENT, nullable=True))
    op.add_column(table, sa.Column("before", MONEY, nullable=True))
    op.add_column(table, sa.Column("words", sa.String(200), nullable=False, server_default=""))
    for column, other in (("origin_id", "money_line"), ("adjustment_id", "adjustment")):
        op.add_column(table, sa.Column(column, sa.BigInteger(), nullable=True))
        op.create_foreign_key(op.f(f"fk_money_line_{column}"), table, other, [column], ["id"])
        op.create_index(f"ix_money_line_{column}", table, [column])
    # A line stands under the tax of its invoice, unless the terms it is charged by were exempt.
    op.execute(
        f"UPDATE {table} AS l JOIN money_document AS d ON d.id = l.document_id "
        "JOIN plan_revision AS r ON r.id = l.revision_id "
        "SET l.belongs_to = d.period_start, "
        "l.treatment = if(json_value(r.terms, '$.pricing.tax') = 'exempt', 'exempt', 'standard'), "
        "l.percent = if(json_value(r.terms, '$.pricing.tax') = 'exempt', 0, d.tax_percent)"
    )
    op.execute(
        f"UPDATE {table} AS l JOIN (SELECT id, row_number() OVER (PARTITION BY document_id, segment, kind, meter_id "
        f"ORDER BY place) - 1 AS nth FROM {table}) AS alike ON alike.id = l.id SET l.nth = alike.nth"
    )
    op.alter_column(table, "belongs_to", existing_type=sa.Date(), nullable=False)
    op.alter_column(table, "percent", existing_type=PERCENT, nullable=False)
    op.create_index("ix_money_line_belongs_to", table, ["belongs_to"])
    # An adjustment is of no segment.
    for column, kind in (
        ("segment", sa.Integer()),
        ("subscription_id", sa.BigInteger()),
        ("revision_id", sa.BigInteger()),
        ("segment_start", mysql.DATETIME(fsp=6)),
        ("segment_end", mysql.DATETIME(fsp=6)),
    ):
        op.alter_column(table, column, existing_type=kind, nullable=True)


def tax_groups() -> None:
    op.create_table(
        "document_tax",
        sa.Column("document_id", sa.BigInteger(), nullable=False),
        sa.Column("place", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("treatment", sa.String(40), nullable=False),
        sa.Column("percent", PERCENT, nullable=False),
        sa.Column("base", MONEY, nullable=False),
        sa.Column("tax", MONEY, nullable=False),
        sa.ForeignKeyConstraint(["document_id"], ["money_document.id"], name=op.f("fk_document_tax_document_id")),
        sa.PrimaryKeyConstraint("document_id", "place", name=op.f("pk_document_tax")),
    )
    # Until now all of a document's tax was that of its standard lines.
    op.execute(
        "INSERT INTO document_tax (document_id, place, treatment, percent, base, tax) "
        "SELECT l.document_id, row_number() OVER (PARTITION BY l.document_id ORDER BY l.treatment DESC) - 1, "
        "l.treatment, max(l.percent), sum(l.amount), if(l.treatment = 'standard', max(d.tax), 0) "
        "FROM money_line AS l JOIN money_document AS d ON d.id = l.document_id GROUP BY l.document_id, l.treatment"
    )
