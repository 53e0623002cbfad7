"""Passkeys, and what they are given to sign"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0034"
down_revision = "0033"


def upgrade() -> None:
    moment = mysql.DATETIME(fsp=6)
    op.create_table(
        "passkey",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("credential_hash", sa.String(64), nullable=False),
        sa.Column("credential", sa.Text(), nullable=False),
        sa.Column("public_key", sa.Text(), nullable=False),
        sa.Column("host", sa.String(253), nullable=False),
        sa.Column("label", sa.String(200), nullable=False),
        sa.Column("uses", sa.BigInteger(), nullable=False),
        sa.Column("made_at", moment, nullable=False),
        sa.Column("used_at", moment, nullable=True),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_passkey_person_id_person")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_passkey_member_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_passkey")),
        sa.UniqueConstraint("credential_hash", name=op.f("uq_passkey_credential_hash")),
    )
    for column in ("person_id", "member_id"):
        op.create_index(op.f(f"ix_passkey_{column}"), "passkey", [column], unique=False)
    op.create_table(
        "passkey_challenge",
        sa.Column("challenge_hash", sa.String(64), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("expires_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_passkey_challenge_person_id_person")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_passkey_challenge_member_id_member")),
        sa.PrimaryKeyConstraint("challenge_hash", name=op.f("pk_passkey_challenge")),
    )
    for column in ("person_id", "member_id", "expires_at"):
        op.create_index(op.f(f"ix_passkey_challenge_{column}"), "passkey_challenge", [column], unique=False)
