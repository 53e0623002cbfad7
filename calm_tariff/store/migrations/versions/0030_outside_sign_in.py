"""Signing in through an outside provider of identities"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0030"
down_revision = "0029"


def upgrade() -> None:
    moment = mysql.DATETIME(fsp=6)
    op.create_table(
        "identity_provider",
        sa.Column("portal_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("issuer", sa.String(200), nullable=False),
        sa.Column("client_id", sa.String(200), nullable=False),
        sa.Column("client_secret", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["portal_id"], ["portal.id"], name=op.f("fk_identity_provider_portal_id_portal")),
        sa.PrimaryKeyConstraint("portal_id", name=op.f("pk_identity_provider")),
    )
    op.create_table(
        "member_identity",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=False),
        sa.Column("provider", sa.String(200), nullable=False),
        sa.Column("issuer", sa.String(200), nullable=False),
        sa.Column("subject", sa.String(255, collation="utf8mb4_bin"), nullable=False),
        sa.Column("linked_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_member_identity_member_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_member_identity")),
        sa.UniqueConstraint("issuer", "subject", name=op.f("uq_member_identity_issuer_subject")),
    )
    op.create_index(op.f("ix_member_identity_member_id"), "member_identity", ["member_id"])
    op.create_table(
        "outside_sign_in",
        sa.Column("state_hash", sa.String(64), nullable=False),
        sa.Column("portal_id", sa.BigInteger(), nullable=False),
        sa.Column("issuer", sa.String(200), nullable=False),
        sa.Column("nonce", sa.String(100), nullable=False),
        sa.Column("verifier", sa.String(100), nullable=False),
        sa.Column("expires_at", moment, nullable=False),
        sa.Column("subject", sa.String(255), nullable=True),
        sa.Column("email", sa.String(200), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.ForeignKeyConstraint(["portal_id"], ["portal.id"], name=op.f("fk_outside_sign_in_portal_id_portal")),
        sa.PrimaryKeyConstraint("state_hash", name=op.f("pk_outside_sign_in")),
    )
    op.create_index(op.f("ix_outside_sign_in_expires_at"), "outside_sign_in", ["expires_at"])
    op.create_index(op.f("ix_outside_sign_in_portal_id"), "outside_sign_in", ["portal_id"])
