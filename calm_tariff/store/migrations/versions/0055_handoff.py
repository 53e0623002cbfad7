"""Usage that is handed on to whoever bills outside"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0055"
down_revision = "0054"

MOMENT = mysql.DATETIME(fsp=6)
UNITS = sa.Numeric(30, 6)


def upgrade() -> None:
    op.create_table(
        "outside_product",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("since", sa.Date(), nullable=False),
        sa.Column("until", sa.Date(), nullable=True),
        sa.Column("made_by", sa.String(200), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.Column(
            "open",
            sa.BigInteger(),
            sa.Computed("if(until is null, product_id, null)", persisted=True),
            nullable=True,
        ),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_outside_product_product_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_outside_product")),
        sa.UniqueConstraint("open", name=op.f("uq_outside_product_open")),
    )
    op.create_index("ix_outside_product_product_id", "outside_product", ["product_id"])
    op.create_table(
        "outside_customer",
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("customer", sa.String(100), nullable=False),
        sa.Column("formerly", sa.JSON(), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("standing", sa.String(40), nullable=False),
        sa.Column("stood_at", MOMENT, nullable=True),
        sa.Column("unpaid_for", sa.String(200), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_outside_customer_consumer_id")),
        sa.PrimaryKeyConstraint("consumer_id", name=op.f("pk_outside_customer")),
        sa.UniqueConstraint("customer", name=op.f("uq_outside_customer_customer")),
    )
    for table, whose in (("outside_plan_price", "plan"), ("outside_subscription_price", "subscription")):
        op.create_table(
            table,
            sa.Column(f"{whose}_id", sa.BigInteger(), autoincrement=False, nullable=False),
            sa.Column("price", sa.String(100), nullable=False),
            sa.Column("edition", sa.Integer(), nullable=False),
            sa.ForeignKeyConstraint([f"{whose}_id"], [f"{whose}.id"], name=op.f(f"fk_{table}_{whose}_id")),
            sa.PrimaryKeyConstraint(f"{whose}_id", name=op.f(f"pk_{table}")),
        )
    op.create_table(
        "handed_batch",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("key", sa.String(40), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.Column("answered_at", MOMENT, nullable=True),
        sa.Column("events", sa.Integer(), nullable=False),
        sa.Column("units", UNITS, nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("accepted", sa.Integer(), nullable=False),
        sa.Column("refused", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_handed_batch")),
        sa.UniqueConstraint("key", name=op.f("uq_handed_batch_key")),
    )
    op.create_index("ix_handed_batch_answered_at", "handed_batch", ["answered_at"])
    op.create_table(
        "handed_units",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("hour_us", sa.BigInteger(), nullable=False),
        *(sa.Column(name, sa.BigInteger(), nullable=False) for name in ("subscription_id", "meter_id")),
        sa.Column("revision", sa.Integer(), nullable=False),
        sa.Column("units", UNITS, nullable=False),
        sa.Column("plan_id", sa.BigInteger(), nullable=False),
        sa.Column("trial", sa.Boolean(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("made_at", MOMENT, nullable=False),
        sa.Column("customer", sa.String(100), nullable=True),
        sa.Column("price", sa.String(100), nullable=True),
        sa.Column("batch_id", sa.BigInteger(), nullable=True),
        sa.Column("answered_at", MOMENT, nullable=True),
        sa.Column("refused_why", sa.Text(), nullable=False),
        sa.Column("anew", sa.Boolean(), nullable=False),
        *(
            sa.ForeignKeyConstraint([column], [f"{table}.id"], name=op.f(f"fk_handed_units_{column}"))
            for column, table in (
                ("subscription_id", "subscription"),
                ("meter_id", "meter"),
                ("plan_id", "plan"),
                ("batch_id", "handed_batch"),
            )
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_handed_units")),
        sa.UniqueConstraint(
            "subscription_id",
            "meter_id",
            "hour_us",
            "revision",
            name=op.f("uq_handed_units_subscription_id_meter_id_hour_us_revision"),
        ),
    )
    op.create_index("ix_handed_units_hour", "handed_units", ["hour_us"])
    op.create_index("ix_handed_units_state", "handed_units", ["state", "hour_us", "id"])
    op.create_index("ix_handed_units_batch_id", "handed_units", ["batch_id"])
    op.create_table(
        "handed_try",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("batch_id", sa.BigInteger(), nullable=False),
        sa.Column("at", MOMENT, nullable=False),
        sa.Column("taken", sa.Boolean(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("took_ms", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["batch_id"], ["handed_batch.id"], name=op.f("fk_handed_try_batch_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_handed_try")),
    )
    op.create_index("ix_handed_try_batch_id", "handed_try", ["batch_id"])
    op.create_table(
        "outside_word",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("word_id", sa.String(100), nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("customer", sa.String(100), nullable=False),
        sa.Column("at", MOMENT, nullable=False),
        sa.Column("heard_at", MOMENT, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=True),
        sa.Column("done", sa.Boolean(), nullable=False),
        sa.Column("outcome", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_outside_word_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_outside_word")),
        sa.UniqueConstraint("word_id", name=op.f("uq_outside_word_word_id")),
    )
    op.create_index("ix_outside_word_consumer_id", "outside_word", ["consumer_id"])
    op.add_column("book_sum", sa.Column("outside", UNITS, nullable=False, server_default="0"))
    op.alter_column("book_sum", "outside", server_default=None, existing_type=UNITS, existing_nullable=False)
