"""the first schema"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0001"
down_revision = None


def upgrade() -> None:
    op.create_table(
        "answered",
        sa.Column("actor", sa.String(length=200), nullable=False),
        sa.Column("key", sa.String(length=100), nullable=False),
        sa.Column("request", sa.String(length=64), nullable=False),
        sa.Column("answer", sa.JSON(), nullable=False),
        sa.Column("at", mysql.DATETIME(fsp=6), nullable=False),
        sa.PrimaryKeyConstraint("actor", "key", name=op.f("pk_answered")),
    )
    op.create_table(
        "api",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("description", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_api")),
        sa.UniqueConstraint("name", name=op.f("uq_api_name")),
    )
    op.create_table(
        "audit_entry",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("actor", sa.String(length=200), nullable=False),
        sa.Column("action", sa.String(length=200), nullable=False),
        sa.Column("subject_kind", sa.String(length=40), nullable=False),
        sa.Column("subject_id", sa.BigInteger(), nullable=False),
        sa.Column("subject", sa.String(length=200), nullable=False),
        sa.Column("before", sa.JSON(), nullable=True),
        sa.Column("after", sa.JSON(), nullable=True),
        sa.Column("why", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_audit_entry")),
    )
    op.create_index(op.f("ix_audit_entry_at"), "audit_entry", ["at"], unique=False)
    op.create_index("ix_audit_entry_subject", "audit_entry", ["subject_kind", "subject_id"], unique=False)
    op.create_table(
        "call",
        sa.Column("call_id", sa.String(length=26), nullable=False),
        sa.Column("at_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("source", sa.String(length=40), nullable=False),
        sa.Column("environment", sa.String(length=40), nullable=False),
        sa.Column("verdict", sa.String(length=8), nullable=False),
        sa.Column("refused_by", sa.String(length=200), nullable=True),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("wait_us", sa.BigInteger(), nullable=False),
        sa.Column("took_us", sa.BigInteger(), nullable=False),
        sa.Column("retry_after_us", sa.BigInteger(), nullable=True),
        sa.Column("bytes_in", sa.BigInteger(), nullable=False),
        sa.Column("bytes_out", sa.BigInteger(), nullable=False),
        sa.Column("method", sa.String(length=10), nullable=False),
        sa.Column("path", sa.String(length=400), nullable=False),
        sa.Column("operation_id", sa.BigInteger(), nullable=True),
        sa.Column("api_version_id", sa.BigInteger(), nullable=True),
        sa.Column("product_id", sa.BigInteger(), nullable=True),
        sa.Column("revision_id", sa.BigInteger(), nullable=True),
        sa.Column("stay_id", sa.BigInteger(), nullable=True),
        sa.Column("subscription_id", sa.BigInteger(), nullable=True),
        sa.Column("application_id", sa.BigInteger(), nullable=True),
        sa.Column("consumer_id", sa.BigInteger(), nullable=True),
        sa.Column("key_id", sa.BigInteger(), nullable=True),
        sa.Column("checks", sa.JSON(), nullable=False),
        sa.Column("units", sa.JSON(), nullable=False),
        sa.Column("told", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("call_id", "at_us", name=op.f("pk_call")),
    )
    op.create_index("ix_call_at", "call", ["at_us"], unique=False)
    op.create_index("ix_call_consumer_at", "call", ["consumer_id", "at_us"], unique=False)
    op.create_index("ix_call_subscription_at", "call", ["subscription_id", "at_us"], unique=False)
    op.create_table(
        "charge_run",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("period_start", sa.Date(), nullable=False),
        sa.Column("period_end", sa.Date(), nullable=False),
        sa.Column("started_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("started_by", sa.String(length=200), nullable=False),
        sa.Column("invoices", sa.Integer(), nullable=False),
        sa.Column("total", sa.Numeric(precision=24, scale=4), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_charge_run")),
    )
    op.create_table(
        "consumer",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_consumer")),
        sa.UniqueConstraint("name", name=op.f("uq_consumer_name")),
    )
    op.create_table(
        "hourly_usage",
        sa.Column("hour_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("stay_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("key_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("operation_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("meter_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.Column("units", sa.Numeric(precision=30, scale=6), nullable=False),
        sa.PrimaryKeyConstraint(
            "hour_us", "subscription_id", "stay_id", "key_id", "operation_id", "meter_id", name=op.f("pk_hourly_usage")
        ),
    )
    op.create_index(
        "ix_hourly_usage_subscription", "hourly_usage", ["subscription_id", "meter_id", "hour_us"], unique=False
    )
    op.create_table(
        "hourly_verdicts",
        sa.Column("hour_us", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("product_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("verdict", sa.String(length=8), nullable=False),
        sa.Column("calls", sa.BigInteger(), nullable=False),
        sa.PrimaryKeyConstraint("hour_us", "consumer_id", "product_id", "verdict", name=op.f("pk_hourly_verdicts")),
    )
    op.create_table(
        "mail",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("recipient", sa.String(length=200), nullable=False),
        sa.Column("subject", sa.String(length=200), nullable=False),
        sa.Column("body", sa.Text(), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("sent_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_mail")),
    )
    op.create_index(op.f("ix_mail_sent_at"), "mail", ["sent_at"], unique=False)
    op.create_table(
        "meter",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("key", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("measure", sa.String(length=40), nullable=False),
        sa.Column("outcomes", sa.JSON(), nullable=False),
        sa.Column("environments", sa.JSON(), nullable=False),
        sa.Column("header", sa.String(length=200), nullable=True),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("sealed_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_meter")),
        sa.UniqueConstraint("key", name=op.f("uq_meter_key")),
    )
    op.create_table(
        "person",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("email", sa.String(length=200), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("role", sa.String(length=40), nullable=False),
        sa.Column("password_hash", sa.String(length=200), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person")),
        sa.UniqueConstraint("email", name=op.f("uq_person_email")),
    )
    op.create_table(
        "product",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("slug", sa.String(length=40), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("description", sa.Text(), nullable=False),
        sa.Column("terms_of_use", sa.Text(), nullable=False),
        sa.Column("terms_dated", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("access_route", sa.String(length=40), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_product")),
        sa.UniqueConstraint("name", name=op.f("uq_product_name")),
        sa.UniqueConstraint("slug", name=op.f("uq_product_slug")),
    )
    op.create_table(
        "provider",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("time_zone", sa.String(length=40), nullable=False),
        sa.Column("currency", sa.String(length=3), nullable=False),
        sa.Column("tax_percent", sa.Numeric(precision=7, scale=4), nullable=False),
        sa.Column("mail_from", sa.String(length=200), nullable=False),
        sa.Column("payment_days", sa.Integer(), nullable=False),
        sa.Column("portal_main_colour", sa.String(length=7), nullable=False),
        sa.Column("portal_accent_colour", sa.String(length=7), nullable=False),
        sa.Column("portal_welcome", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_provider")),
    )
    op.create_table(
        "service_token",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("label", sa.String(length=200), nullable=False),
        sa.Column("role", sa.String(length=40), nullable=False),
        sa.Column("token_hash", sa.String(length=64), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("revoked_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_service_token")),
        sa.UniqueConstraint("token_hash", name=op.f("uq_service_token_token_hash")),
    )
    op.create_table(
        "stamp",
        sa.Column("name", sa.String(length=40), nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("changed_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_stamp")),
    )
    op.create_table(
        "api_version",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("api_id", sa.BigInteger(), nullable=False),
        sa.Column("version", sa.String(length=40), nullable=False),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.Column("base_path", sa.String(length=200), nullable=False),
        sa.Column("back_end_url", sa.String(length=200), nullable=False),
        sa.Column("capacity_per_second", sa.Integer(), nullable=True),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["api_id"], ["api.id"], name=op.f("fk_api_version_api_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_api_version")),
        sa.UniqueConstraint("api_id", "version", name=op.f("uq_api_version_api_id_version")),
        sa.UniqueConstraint("base_path", name=op.f("uq_api_version_base_path")),
    )
    op.create_table(
        "application",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("description", sa.Text(), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_application_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_application")),
        sa.UniqueConstraint("consumer_id", "name", name=op.f("uq_application_consumer_id_name")),
    )
    op.create_table(
        "invoice",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("number", sa.String(length=30), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("run_id", sa.BigInteger(), nullable=False),
        sa.Column("period_start", sa.Date(), nullable=False),
        sa.Column("period_end", sa.Date(), nullable=False),
        sa.Column("currency", sa.String(length=3), nullable=False),
        sa.Column("tax_percent", sa.Numeric(precision=7, scale=4), nullable=False),
        sa.Column("subtotal", sa.Numeric(precision=24, scale=4), nullable=False),
        sa.Column("tax", sa.Numeric(precision=24, scale=4), nullable=False),
        sa.Column("total", sa.Numeric(precision=24, scale=4), nullable=False),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.Column("evidence", sa.JSON(), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("issued_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.Column("due_on", sa.Date(), nullable=True),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_invoice_consumer_id")),
        sa.ForeignKeyConstraint(["run_id"], ["charge_run.id"], name=op.f("fk_invoice_run_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_invoice")),
        sa.UniqueConstraint("consumer_id", "period_start", name=op.f("uq_invoice_consumer_id_period_start")),
        sa.UniqueConstraint("number", name=op.f("uq_invoice_number")),
    )
    op.create_table(
        "member",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("email", sa.String(length=200), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("role", sa.String(length=40), nullable=False),
        sa.Column("password_hash", sa.String(length=200), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_member_consumer_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_member")),
        sa.UniqueConstraint("email", name=op.f("uq_member_email")),
    )
    op.create_index(op.f("ix_member_consumer_id"), "member", ["consumer_id"], unique=False)
    op.create_table(
        "plan",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_plan_product_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_plan")),
        sa.UniqueConstraint("product_id", "name", name=op.f("uq_plan_product_id_name")),
    )
    op.create_table(
        "access_request",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("application_id", sa.BigInteger(), nullable=False),
        sa.Column("plan_id", sa.BigInteger(), nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=False),
        sa.Column("purpose", sa.Text(), nullable=False),
        sa.Column("terms_accepted", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("decided_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.Column("decided_by", sa.String(length=200), nullable=True),
        sa.Column("note", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["application_id"], ["application.id"], name=op.f("fk_access_request_application_id")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_access_request_member_id")),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_access_request_plan_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_access_request")),
    )
    op.create_index(op.f("ix_access_request_application_id"), "access_request", ["application_id"], unique=False)
    op.create_index(op.f("ix_access_request_plan_id"), "access_request", ["plan_id"], unique=False)
    op.create_index(op.f("ix_access_request_state"), "access_request", ["state"], unique=False)
    op.create_table(
        "api_key",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("application_id", sa.BigInteger(), nullable=False),
        sa.Column("label", sa.String(length=200), nullable=False),
        sa.Column("environment", sa.String(length=40), nullable=False),
        sa.Column("prefix", sa.String(length=40), nullable=False),
        sa.Column("key_hash", sa.String(length=64), nullable=False),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("revoked_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.ForeignKeyConstraint(["application_id"], ["application.id"], name=op.f("fk_api_key_application_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_api_key")),
        sa.UniqueConstraint("key_hash", name=op.f("uq_api_key_key_hash")),
    )
    op.create_index(op.f("ix_api_key_application_id"), "api_key", ["application_id"], unique=False)
    op.create_index(op.f("ix_api_key_prefix"), "api_key", ["prefix"], unique=False)
    op.create_table(
        "operation",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("api_version_id", sa.BigInteger(), nullable=False),
        sa.Column("method", sa.String(length=10), nullable=False),
        sa.Column("path", sa.String(length=200), nullable=False),
        sa.Column("summary", sa.String(length=200), nullable=False),
        sa.ForeignKeyConstraint(["api_version_id"], ["api_version.id"], name=op.f("fk_operation_api_version_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_operation")),
        sa.UniqueConstraint("api_version_id", "method", "path", name=op.f("uq_operation_api_version_id_method_path")),
    )
    op.create_table(
        "plan_draft",
        sa.Column("plan_id", sa.BigInteger(), nullable=False),
        sa.Column("terms", sa.JSON(), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.Column("saved_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("saved_by", sa.String(length=200), nullable=False),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_plan_draft_plan_id")),
        sa.PrimaryKeyConstraint("plan_id", name=op.f("pk_plan_draft")),
    )
    op.create_table(
        "plan_revision",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("plan_id", sa.BigInteger(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("terms", sa.JSON(), nullable=False),
        sa.Column("published_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("published_by", sa.String(length=200), nullable=False),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_plan_revision_plan_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_plan_revision")),
        sa.UniqueConstraint("plan_id", "number", name=op.f("uq_plan_revision_plan_id_number")),
    )
    op.create_table(
        "signed_in",
        sa.Column("token_hash", sa.String(length=64), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("created_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("expires_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_signed_in_member_id")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_signed_in_person_id")),
        sa.PrimaryKeyConstraint("token_hash", name=op.f("pk_signed_in")),
    )
    op.create_index(op.f("ix_signed_in_expires_at"), "signed_in", ["expires_at"], unique=False)
    op.create_table(
        "meter_operation",
        sa.Column("meter_id", sa.BigInteger(), nullable=False),
        sa.Column("operation_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["meter_id"], ["meter.id"], name=op.f("fk_meter_operation_meter_id")),
        sa.ForeignKeyConstraint(["operation_id"], ["operation.id"], name=op.f("fk_meter_operation_operation_id")),
        sa.PrimaryKeyConstraint("meter_id", "operation_id", name=op.f("pk_meter_operation")),
    )
    op.create_table(
        "product_operation",
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("operation_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(["operation_id"], ["operation.id"], name=op.f("fk_product_operation_operation_id")),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_product_operation_product_id")),
        sa.PrimaryKeyConstraint("product_id", "operation_id", name=op.f("pk_product_operation")),
    )
    op.create_table(
        "subscription",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("application_id", sa.BigInteger(), nullable=False),
        sa.Column("plan_id", sa.BigInteger(), nullable=False),
        sa.Column("request_id", sa.BigInteger(), nullable=True),
        sa.Column("state", sa.String(length=40), nullable=False),
        sa.Column("started_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("ended_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.ForeignKeyConstraint(["application_id"], ["application.id"], name=op.f("fk_subscription_application_id")),
        sa.ForeignKeyConstraint(["plan_id"], ["plan.id"], name=op.f("fk_subscription_plan_id")),
        sa.ForeignKeyConstraint(["request_id"], ["access_request.id"], name=op.f("fk_subscription_request_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_subscription")),
    )
    op.create_index(op.f("ix_subscription_application_id"), "subscription", ["application_id"], unique=False)
    op.create_index(op.f("ix_subscription_plan_id"), "subscription", ["plan_id"], unique=False)
    op.create_index(op.f("ix_subscription_state"), "subscription", ["state"], unique=False)
    op.create_table(
        "invoice_line",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("invoice_id", sa.BigInteger(), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("segment", sa.Integer(), nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), nullable=False),
        sa.Column("revision_id", sa.BigInteger(), nullable=False),
        sa.Column("segment_start", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("segment_end", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("kind", sa.String(length=40), nullable=False),
        sa.Column("meter_id", sa.BigInteger(), nullable=True),
        sa.Column("quantity", sa.Numeric(precision=30, scale=6), nullable=True),
        sa.Column("included", sa.Numeric(precision=30, scale=6), nullable=True),
        sa.Column("priced", sa.Numeric(precision=30, scale=6), nullable=True),
        sa.Column("days", sa.Integer(), nullable=False),
        sa.Column("amount", sa.Numeric(precision=24, scale=4), nullable=False),
        sa.Column("slices", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["invoice_id"], ["invoice.id"], name=op.f("fk_invoice_line_invoice_id")),
        sa.ForeignKeyConstraint(["meter_id"], ["meter.id"], name=op.f("fk_invoice_line_meter_id")),
        sa.ForeignKeyConstraint(["revision_id"], ["plan_revision.id"], name=op.f("fk_invoice_line_revision_id")),
        sa.ForeignKeyConstraint(["subscription_id"], ["subscription.id"], name=op.f("fk_invoice_line_subscription_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_invoice_line")),
        sa.UniqueConstraint("invoice_id", "place", name=op.f("uq_invoice_line_invoice_id_place")),
    )
    op.create_table(
        "stay",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), nullable=False),
        sa.Column("revision_id", sa.BigInteger(), nullable=False),
        sa.Column("start_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("end_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.ForeignKeyConstraint(["revision_id"], ["plan_revision.id"], name=op.f("fk_stay_revision_id")),
        sa.ForeignKeyConstraint(["subscription_id"], ["subscription.id"], name=op.f("fk_stay_subscription_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_stay")),
    )
    op.create_index(op.f("ix_stay_subscription_id"), "stay", ["subscription_id"], unique=False)
    # Recorded calls lie in monthly partitions; the worker splits months to come off the last one.
    op.execute("ALTER TABLE `call` PARTITION BY RANGE (at_us) (PARTITION beyond VALUES LESS THAN (MAXVALUE))")
