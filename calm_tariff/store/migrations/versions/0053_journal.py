"""The bookkeeper's journal, also of what was booked before"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0053"
down_revision = "0052"

MOMENT = mysql.DATETIME(fsp=6)
ROLES = ("receivable", "bank", "card clearing", "revenue", "tax", "losses")


def upgrade() -> None:
    op.create_table(
        "ledger",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("stands_for", sa.String(80), nullable=False),
        sa.Column("role", sa.String(40), nullable=False),
        sa.Column("product_id", sa.BigInteger(), nullable=True),
        sa.Column("treatment", sa.String(40), nullable=False),
        sa.Column("percent", sa.Numeric(7, 4), nullable=True),
        sa.Column("name", sa.String(120), nullable=False),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_ledger_product_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_ledger")),
        sa.UniqueConstraint("stands_for", name=op.f("uq_ledger_stands_for")),
    )
    op.create_table(
        "posting",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("entry_id", sa.BigInteger(), nullable=False),
        sa.Column("ledger_id", sa.BigInteger(), nullable=False),
        sa.Column("amount", sa.Numeric(24, 4), nullable=False),
        sa.ForeignKeyConstraint(["entry_id"], ["account_entry.id"], name=op.f("fk_posting_entry_id")),
        sa.ForeignKeyConstraint(["ledger_id"], ["ledger.id"], name=op.f("fk_posting_ledger_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_posting")),
        sa.UniqueConstraint("entry_id", "ledger_id", name=op.f("uq_posting_entry_id_ledger_id")),
    )
    op.create_index("ix_posting_ledger_id", "posting", ["ledger_id"])
    op.create_table(
        "journal_month",
        sa.Column("start", sa.Date(), nullable=False),
        sa.Column("closed_at", MOMENT, nullable=True),
        sa.Column("closed_by", sa.String(200), nullable=False),
        sa.Column("entries", sa.Integer(), nullable=False),
        sa.Column("debit", sa.Numeric(24, 4), nullable=False),
        sa.Column("names", sa.JSON(), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("text", mysql.LONGBLOB(), nullable=True),
        sa.Column("rows", mysql.LONGBLOB(), nullable=True),
        sa.PrimaryKeyConstraint("start", name=op.f("pk_journal_month")),
    )
    op.create_index("ix_account_entry_on", "account_entry", ["on"])
    ledger = sa.table("ledger", *map(sa.column, ("stands_for", "role", "treatment", "name")))
    op.bulk_insert(ledger, [{"stands_for": r, "role": r, "treatment": "", "name": ""} for r in ROLES])
    for statement in _BOOKED:
        op.execute(statement)


# What an entry adds to what its consumer owes, and to what it is against.
_SIGNED = "if(e.kind in ('invoice', 'refund', 'returned payment'), e.amount, -e.amount)"
_SIDE = "if(e.kind = 'credit note', 1, -1)"
_REVENUE = """
    from account_entry e
    join money_line l on l.document_id = e.document_id
    left join plan_revision r on r.id = l.revision_id
    left join plan p on p.id = r.plan_id
"""
_TAX = "from account_entry e join document_tax t on t.document_id = e.document_id and t.tax <> 0"
_OF_REVENUE = "concat('revenue', ifnull(concat(' of product ', p.product_id), ''))"
_OF_TAX = "concat('tax ', t.treatment, ' ', t.percent)"
_BOOKED = (
    f"""insert into ledger (stands_for, role, product_id, treatment, name)
    select distinct {_OF_REVENUE}, 'revenue', p.product_id, '', '' {_REVENUE} where p.product_id is not null""",
    f"""insert into ledger (stands_for, role, treatment, percent, name)
    select distinct {_OF_TAX}, 'tax', t.treatment, t.percent, '' {_TAX}""",
    f"""insert into posting (entry_id, ledger_id, amount)
    select e.id, g.id, {_SIGNED} from account_entry e join ledger g on g.stands_for = 'receivable'""",
    f"""insert into posting (entry_id, ledger_id, amount)
    select e.id, g.id, sum({_SIDE} * l.amount) {_REVENUE} join ledger g on g.stands_for = {_OF_REVENUE}
    group by e.id, g.id having sum(l.amount) <> 0""",
    f"""insert into posting (entry_id, ledger_id, amount)
    select e.id, g.id, {_SIDE} * t.tax {_TAX} join ledger g on g.stands_for = {_OF_TAX}""",
    f"""insert into posting (entry_id, ledger_id, amount)
    select e.id, g.id, -({_SIGNED}) from account_entry e
    join ledger g on g.stands_for = case
      when e.kind = 'write-off' then 'losses' when e.paid_by = 'card' then 'card clearing' else 'bank' end
    where e.document_id is null""",
    """insert into journal_month (start, closed_by, entries, debit, names, digest)
    select distinct cast(date_format(e.`on`, '%Y-%m-01') as date), '', 0, 0, '{}', '' from account_entry e""",
)
