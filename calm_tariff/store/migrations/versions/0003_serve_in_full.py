"""Serving in full: kinds of credential, forwarding as the owner wants it, overrides, tokens, receipts that say more"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0003"
down_revision = "0002"


def upgrade() -> None:
    op.create_table(
        "instance",
        sa.Column("name", sa.String(length=40), nullable=False),
        sa.Column("kind", sa.String(length=40), nullable=False),
        sa.Column("started_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("seen_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("report", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_instance")),
    )
    op.create_index(op.f("ix_instance_seen_at"), "instance", ["seen_at"], unique=False)
    op.create_table(
        "outside_issuer",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(length=200), nullable=False),
        sa.Column("issuer", sa.String(length=200), nullable=False),
        sa.Column("jwks_url", sa.String(length=200), nullable=False),
        sa.Column("audience", sa.String(length=200), nullable=False),
        sa.Column("algorithms", sa.JSON(), nullable=False),
        sa.Column("claim", sa.String(length=40), nullable=False),
        sa.Column("environment", sa.String(length=40), nullable=False),
        sa.Column("trusted", sa.Boolean(), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_outside_issuer")),
        sa.UniqueConstraint("issuer", name=op.f("uq_outside_issuer_issuer")),
        sa.UniqueConstraint("name", name=op.f("uq_outside_issuer_name")),
    )
    op.create_table(
        "revoked_token",
        sa.Column("jti", sa.String(length=40), nullable=False),
        sa.Column("expires_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("revoked_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.PrimaryKeyConstraint("jti", name=op.f("pk_revoked_token")),
    )
    op.create_index(op.f("ix_revoked_token_expires_at"), "revoked_token", ["expires_at"], unique=False)
    op.create_table(
        "signing_key",
        sa.Column("kid", sa.String(length=40), nullable=False),
        sa.Column("private", sa.Text(), nullable=False),
        sa.Column("made_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.PrimaryKeyConstraint("kid", name=op.f("pk_signing_key")),
    )
    op.create_table(
        "subscription_override",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("subscription_id", sa.BigInteger(), nullable=False),
        sa.Column("limit", sa.JSON(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("made_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("made_by", sa.String(length=200), nullable=False),
        sa.Column("ends_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("lifted_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.Column("lifted_by", sa.String(length=200), nullable=True),
        sa.ForeignKeyConstraint(
            ["subscription_id"], ["subscription.id"], name=op.f("fk_subscription_override_subscription_id")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_subscription_override")),
    )
    op.create_index(
        op.f("ix_subscription_override_subscription_id"), "subscription_override", ["subscription_id"], unique=False
    )
    op.add_column("api_key", sa.Column("kind", sa.String(length=40), nullable=False, server_default=sa.text("'key'")))
    op.add_column("api_key", sa.Column("starts_at", mysql.DATETIME(fsp=6), nullable=True))
    op.add_column("api_key", sa.Column("expires_at", mysql.DATETIME(fsp=6), nullable=True))
    op.add_column("api_version", sa.Column("connect_ms", sa.Integer(), nullable=False, server_default=sa.text("3000")))
    op.add_column("api_version", sa.Column("answer_ms", sa.Integer(), nullable=False, server_default=sa.text("30000")))
    op.add_column(
        "api_version", sa.Column("most_body_bytes", sa.BigInteger(), nullable=False, server_default=sa.text("10000000"))
    )
    op.add_column("api_version", sa.Column("cors_origins", sa.JSON(), nullable=False, server_default=sa.text("'[]'")))
    op.add_column("api_version", sa.Column("passes_caller", sa.Boolean(), nullable=False, server_default=sa.text("0")))
    op.add_column(
        "api_version", sa.Column("breaker_failures", sa.Integer(), nullable=False, server_default=sa.text("5"))
    )
    op.add_column(
        "api_version", sa.Column("breaker_seconds", sa.Integer(), nullable=False, server_default=sa.text("10"))
    )
    op.add_column(
        "application", sa.Column("client_id", sa.String(length=40), nullable=False, server_default=sa.text("''"))
    )
    op.add_column("application", sa.Column("tags", sa.JSON(), nullable=False, server_default=sa.text("'{}'")))
    op.execute("UPDATE application SET client_id = CONCAT('app-', LEFT(SHA2(CONCAT(id, RAND()), 256), 20))")
    op.create_unique_constraint(op.f("uq_application_client_id"), "application", ["client_id"])
    op.add_column(
        "call", sa.Column("credential", sa.String(length=40), nullable=False, server_default=sa.text("'key'"))
    )
    op.add_column("call", sa.Column("decide_us", sa.BigInteger(), nullable=False, server_default=sa.text("0")))
    op.add_column("call", sa.Column("back_end_us", sa.BigInteger(), nullable=False, server_default=sa.text("0")))
    op.add_column("call", sa.Column("reserved", sa.Integer(), nullable=False, server_default=sa.text("0")))
    op.add_column("call", sa.Column("decided_us", sa.BigInteger(), nullable=False, server_default=sa.text("0")))
    op.add_column("call", sa.Column("decided_order", sa.BigInteger(), nullable=False, server_default=sa.text("0")))
    op.add_column("call", sa.Column("carried", sa.JSON(), nullable=False, server_default=sa.text("'{}'")))
    op.add_column("call", sa.Column("remarks", sa.JSON(), nullable=False, server_default=sa.text("'[]'")))
    op.add_column(
        "operation", sa.Column("answers", sa.String(length=40), nullable=False, server_default=sa.text("'back end'"))
    )
    op.add_column("operation", sa.Column("example", sa.JSON(), nullable=True))
    op.add_column(
        "product", sa.Column("credential_kinds", sa.JSON(), nullable=False, server_default=sa.text("'[\"key\"]'"))
    )
    op.add_column(
        "product", sa.Column("key_header", sa.String(length=100), nullable=False, server_default=sa.text("'X-API-Key'"))
    )
    op.add_column(
        "product", sa.Column("key_query", sa.String(length=100), nullable=False, server_default=sa.text("''"))
    )
    op.add_column("product", sa.Column("older_fields", sa.Boolean(), nullable=False, server_default=sa.text("0")))
