"""APIs in full: versions, environments, groups, documents; terms of use in versions; limits above plans"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0002"
down_revision = "0001"


def upgrade() -> None:
    op.create_table(
        "consumer_group",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_consumer_group")),
        sa.UniqueConstraint("name", name=op.f("uq_consumer_group_name")),
    )
    op.create_table(
        "document_reading",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("stage", sa.String(length=40), nullable=False),
        sa.Column("done", sa.Integer(), nullable=False),
        sa.Column("total", sa.Integer(), nullable=False),
        sa.Column("title", sa.String(length=200), nullable=False),
        sa.Column("version", sa.String(length=200), nullable=False),
        sa.Column("servers", sa.JSON(), nullable=False),
        sa.Column("operations", sa.JSON(), nullable=False),
        sa.Column("findings", sa.JSON(), nullable=False),
        sa.Column("text", mysql.LONGTEXT(), nullable=False),
        sa.Column("started_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("touched_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("started_by", sa.String(length=200), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_document_reading")),
    )
    op.create_table(
        "consumer_in_group",
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("group_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_consumer_in_group_consumer_id")),
        sa.ForeignKeyConstraint(["group_id"], ["consumer_group.id"], name=op.f("fk_consumer_in_group_group_id")),
        sa.PrimaryKeyConstraint("consumer_id", "group_id", name=op.f("pk_consumer_in_group")),
    )
    op.create_table(
        "product_group",
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("group_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["group_id"], ["consumer_group.id"], name=op.f("fk_product_group_group_id")),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_product_group_product_id")),
        sa.PrimaryKeyConstraint("product_id", "group_id", name=op.f("pk_product_group")),
    )
    op.create_table(
        "terms_accepted",
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("member", sa.String(length=200), nullable=False),
        sa.Column("accepted_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_terms_accepted_consumer_id")),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_terms_accepted_product_id")),
        sa.PrimaryKeyConstraint("consumer_id", "product_id", "number", name=op.f("pk_terms_accepted")),
    )
    op.create_table(
        "terms_of_use",
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("dated", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("written_by", sa.String(length=200), nullable=False),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_terms_of_use_product_id")),
        sa.PrimaryKeyConstraint("product_id", "number", name=op.f("pk_terms_of_use")),
    )
    op.create_table(
        "api_document",
        sa.Column("api_version_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("text", mysql.LONGTEXT(), nullable=False),
        sa.Column("imported_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["api_version_id"], ["api_version.id"], name=op.f("fk_api_document_api_version_id")),
        sa.PrimaryKeyConstraint("api_version_id", name=op.f("pk_api_document")),
    )
    op.create_table(
        "back_end_health",
        sa.Column("api_version_id", sa.BigInteger(), nullable=False),
        sa.Column("environment", sa.String(length=40), nullable=False),
        sa.Column("well", sa.Boolean(), nullable=False),
        sa.Column("answer", sa.String(length=200), nullable=False),
        sa.Column("took_ms", sa.Integer(), nullable=False),
        sa.Column("checked_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("since", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["api_version_id"], ["api_version.id"], name=op.f("fk_back_end_health_api_version_id")),
        sa.PrimaryKeyConstraint("api_version_id", "environment", name=op.f("pk_back_end_health")),
    )
    op.create_table(
        "house_limits",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("api_version_id", sa.BigInteger(), nullable=True),
        sa.Column("limits", sa.JSON(), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["api_version_id"], ["api_version.id"], name=op.f("fk_house_limits_api_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_house_limits")),
        sa.UniqueConstraint("api_version_id", name=op.f("uq_house_limits_api_version_id")),
    )
    op.create_table(
        "plan_group",
        sa.Column("plan_id", sa.BigInteger(), nullable=False),
        sa.Column("group_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["group_id"], ["consumer_group.id"], name=op.f("fk_plan_group_group_id")),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_plan_group_plan_id")),
        sa.PrimaryKeyConstraint("plan_id", "group_id", name=op.f("pk_plan_group")),
    )
    op.add_column("access_request", sa.Column("first_granted_by", sa.String(length=200), nullable=True))
    op.add_column("access_request", sa.Column("first_note", sa.Text(), nullable=False, server_default=sa.text("''")))
    op.add_column("access_request", sa.Column("ticket", sa.String(length=40), nullable=True))
    op.create_index(op.f("ix_access_request_ticket"), "access_request", ["ticket"], unique=False)
    op.add_column(
        "api_version", sa.Column("chosen_by", sa.String(length=40), nullable=False, server_default=sa.text("'path'"))
    )
    op.add_column(
        "api_version", sa.Column("chosen_name", sa.String(length=100), nullable=False, server_default=sa.text("''"))
    )
    op.add_column(
        "api_version", sa.Column("chosen_value", sa.String(length=100), nullable=False, server_default=sa.text("''"))
    )
    op.add_column(
        "api_version", sa.Column("sandbox_url", sa.String(length=200), nullable=False, server_default=sa.text("''"))
    )
    op.add_column(
        "api_version", sa.Column("health_path", sa.String(length=200), nullable=False, server_default=sa.text("''"))
    )
    op.add_column("api_version", sa.Column("deprecated_at", mysql.DATETIME(fsp=6), nullable=True))
    op.add_column("api_version", sa.Column("sunset_at", mysql.DATETIME(fsp=6), nullable=True))
    op.drop_index(op.f("uq_api_version_base_path"), table_name="api_version")
    op.create_unique_constraint(
        op.f("uq_api_version_base_path_chosen_by_chosen_name_chosen_value"),
        "api_version",
        ["base_path", "chosen_by", "chosen_name", "chosen_value"],
    )
    op.add_column("meter", sa.Column("credentials", sa.JSON(), nullable=False, server_default=sa.text("'[]'")))
    op.add_column("operation", sa.Column("groups", sa.JSON(), nullable=False, server_default=sa.text("'[]'")))
    op.add_column("operation", sa.Column("retired_at", mysql.DATETIME(fsp=6), nullable=True))
    op.add_column("product", sa.Column("contact", sa.Text(), nullable=False, server_default=sa.text("''")))
    op.add_column("product", sa.Column("terms_number", sa.Integer(), nullable=False, server_default=sa.text("1")))
    op.add_column("stay", sa.Column("trial", sa.Boolean(), nullable=False, server_default=sa.text("0")))
    op.create_table(
        "hourly_outcomes",
        sa.Column("hour_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("operation_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("environment", sa.String(length=40), nullable=False),
        sa.Column("status", sa.Integer(), autoincrement=False, nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("bytes_in", sa.BigInteger(), nullable=False),
        sa.Column("bytes_out", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint(
            "hour_us", "operation_id", "consumer_id", "environment", "status", name=op.f("pk_hourly_outcomes")
        ),
    )
    op.execute(
        "INSERT INTO hourly_outcomes SELECT at_us - at_us % 3600000000, COALESCE(operation_id, 0), "
        "COALESCE(consumer_id, 0), environment, status, COUNT(*), SUM(bytes_in), SUM(bytes_out) "
        "FROM `call` WHERE verdict <> 'refused' GROUP BY 1, 2, 3, 4, 5"
    )
    op.execute(
        "INSERT INTO terms_of_use (product_id, number, text, dated, written_by) "
        "SELECT id, 1, terms_of_use, terms_dated, 'Calm Tariff' FROM product"
    )
