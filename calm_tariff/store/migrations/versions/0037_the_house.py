"""People with several roles, who are invited and leave; tokens with scopes; and the record as a chain"""

import secrets

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

from calm_tariff.core import chain
from calm_tariff.store.base import recording
from calm_tariff.store.base.columns import Moment

revision = "0037"
down_revision = "0036"

_MOMENT = mysql.DATETIME(fsp=6)
PART = 2000


def upgrade() -> None:
    _roles(
        "person", sa.Column("joined_at", _MOMENT, nullable=True), sa.Column("deactivated_at", _MOMENT, nullable=True)
    )
    # Whoever ran everything before goes on to.
    op.execute('UPDATE person SET roles = \'["product manager", "owner"]\' WHERE roles = \'["product manager"]\'')
    _roles("service_token", sa.Column("scopes", sa.JSON(), nullable=False, server_default="[]"))
    op.alter_column("service_token", "scopes", server_default=None, existing_type=sa.JSON(), existing_nullable=False)
    op.add_column("provider", sa.Column("factor_required", sa.Boolean(), nullable=False, server_default="0"))
    op.alter_column(
        "provider", "factor_required", server_default=None, existing_type=sa.Boolean(), existing_nullable=False
    )
    for column in (
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("working_days", sa.JSON(), nullable=True),
        sa.Column("body_days", sa.Integer(), nullable=False, server_default="7"),
        sa.Column("settled_at", _MOMENT, nullable=True),
        sa.Column("charged_at", _MOMENT, nullable=True),
        sa.Column("edition", sa.Integer(), nullable=False, server_default="1"),
    ):
        op.add_column("provider", column)
    op.execute("UPDATE provider SET working_days = '[0, 1, 2, 3, 4]'")
    op.alter_column("provider", "working_days", nullable=False, existing_type=sa.JSON())
    for name in ("body_days", "edition"):
        op.alter_column("provider", name, server_default=None, existing_type=sa.Integer(), existing_nullable=False)
    op.execute("UPDATE provider SET settled_at = UTC_TIMESTAMP(6)")
    op.execute("UPDATE provider SET charged_at = (SELECT MIN(started_at) FROM charge_run WHERE invoices > 0)")
    op.create_table(
        "person_invitation",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("token_hash", sa.String(64), nullable=False),
        sa.Column("email", sa.String(200), nullable=False),
        sa.Column("roles", sa.JSON(), nullable=False),
        sa.Column("invited_by", sa.String(200), nullable=False),
        sa.Column("invited_at", _MOMENT, nullable=False),
        sa.Column("expires_at", _MOMENT, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person_invitation")),
        sa.UniqueConstraint("token_hash", name=op.f("uq_person_invitation_token_hash")),
        sa.UniqueConstraint("email", name=op.f("uq_person_invitation_email")),
    )
    op.create_index(op.f("ix_person_invitation_expires_at"), "person_invitation", ["expires_at"], unique=False)
    _outside()
    _chain()


def _outside() -> None:
    op.add_column("signed_in", sa.Column("outside", sa.Boolean(), nullable=False, server_default="0"))
    op.alter_column("signed_in", "outside", server_default=None, existing_type=sa.Boolean(), existing_nullable=False)
    op.alter_column("outside_sign_in", "portal_id", nullable=True, existing_type=sa.BigInteger())
    op.execute("DELETE FROM outside_sign_in")
    op.add_column("outside_sign_in", sa.Column("claimed", sa.JSON(), nullable=False))
    op.create_table(
        "house_identity_provider",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("issuer", sa.String(200), nullable=False),
        sa.Column("client_id", sa.String(200), nullable=False),
        sa.Column("client_secret", sa.Text(), nullable=False),
        sa.Column("role_claim", sa.String(200), nullable=False),
        sa.Column("roles_by", sa.JSON(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_house_identity_provider")),
    )
    op.create_table(
        "person_identity",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=False),
        sa.Column("provider", sa.String(200), nullable=False),
        sa.Column("issuer", sa.String(200), nullable=False),
        sa.Column("subject", sa.String(255, collation="utf8mb4_bin"), nullable=False),
        sa.Column("linked_at", _MOMENT, nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_person_identity_person_id_person")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person_identity")),
        sa.UniqueConstraint("issuer", "subject", name=op.f("uq_person_identity_issuer_subject")),
    )
    op.create_index(op.f("ix_person_identity_person_id"), "person_identity", ["person_id"], unique=False)


def _roles(table: str, *more: sa.Column) -> None:
    """The one role of everybody, as a list."""
    op.add_column(table, sa.Column("roles", sa.JSON(), nullable=True))
    op.execute(f"UPDATE {table} SET roles = JSON_ARRAY(role)")
    op.alter_column(table, "roles", nullable=False, existing_type=sa.JSON())
    op.drop_column(table, "role")
    for column in more:
        op.add_column(table, column)


def _chain() -> None:
    """Tie the entries there are to each other, in their order; from whom they are by id is not known."""
    for column in (
        sa.Column("by", sa.String(200), nullable=False, server_default=""),
        sa.Column("salt", sa.String(32), nullable=False, server_default=""),
        sa.Column("content", sa.String(64), nullable=False, server_default=""),
        sa.Column("digest", sa.String(64), nullable=False, server_default=""),
        sa.Column("erased_by", sa.BigInteger(), nullable=True),
    ):
        op.add_column("audit_entry", column)
    for name, size in (("by", 200), ("salt", 32), ("content", 64), ("digest", 64)):
        op.alter_column(
            "audit_entry", name, server_default=None, existing_type=sa.String(size), existing_nullable=False
        )
    for name in ("by", "action"):
        op.create_index(op.f(f"ix_audit_entry_{name}"), "audit_entry", [name], unique=False)
    op.create_table(
        "record_end",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("number", sa.BigInteger(), nullable=False),
        sa.Column("digest", sa.String(64), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_record_end")),
    )
    names = ("by", "actor", "action", "subject_kind", "subject", "why")
    kept = sa.table(
        "audit_entry",
        sa.column("id", sa.BigInteger()),
        sa.column("at", Moment()),
        *(sa.column(name, sa.String()) for name in names),
        sa.column("subject_id", sa.BigInteger()),
        sa.column("before", sa.JSON()),
        sa.column("after", sa.JSON()),
    )
    connection, number, last = op.get_bind(), 0, chain.BEGINNING
    tied = sa.text("UPDATE audit_entry SET salt = :salt, content = :content, digest = :digest WHERE id = :id")
    while part := connection.execute(sa.select(kept).where(kept.c.id > number).order_by(kept.c.id).limit(PART)).all():
        rows = []
        for entry in part:
            salt = secrets.token_hex(16)
            said = chain.content(recording.says(entry), salt)
            number, last = entry.id, chain.digest(last, entry.id, said)
            rows.append({"id": entry.id, "salt": salt, "content": said, "digest": last})
        connection.execute(tied, rows)
    connection.execute(
        sa.text("INSERT INTO record_end (id, number, digest) VALUES (1, :number, :digest)"),
        {"number": number, "digest": last},
    )
