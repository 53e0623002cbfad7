"""Members of organisations: invitations, leaving, another mail address, a second factor; and accounts that are closed"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0021"
down_revision = "0020"


def upgrade() -> None:
    moment = mysql.DATETIME(fsp=6)
    op.add_column("consumer", sa.Column("closed_at", moment, nullable=True))
    op.add_column("member", sa.Column("joined_at", moment, nullable=True))
    op.add_column("member", sa.Column("left_at", moment, nullable=True))
    op.create_table(
        "member_invitation",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("token_hash", sa.String(64), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("email", sa.String(200), nullable=False),
        sa.Column("role", sa.String(40), nullable=False),
        sa.Column("invited_by", sa.String(200), nullable=False),
        sa.Column("invited_at", moment, nullable=False),
        sa.Column("expires_at", moment, nullable=False),
        sa.ForeignKeyConstraint(
            ["consumer_id"], ["consumer.id"], name=op.f("fk_member_invitation_consumer_id_consumer")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_member_invitation")),
        sa.UniqueConstraint("consumer_id", "email", name=op.f("uq_member_invitation_consumer_id_email")),
        sa.UniqueConstraint("token_hash", name=op.f("uq_member_invitation_token_hash")),
    )
    op.create_index(op.f("ix_member_invitation_expires_at"), "member_invitation", ["expires_at"], unique=False)
    op.create_table(
        "address_change",
        sa.Column("token_hash", sa.String(64), nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("email", sa.String(200), nullable=False),
        sa.Column("expires_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_address_change_person_id_person")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_address_change_member_id_member")),
        sa.PrimaryKeyConstraint("token_hash", name=op.f("pk_address_change")),
    )
    for column in ("person_id", "member_id", "expires_at"):
        op.create_index(op.f(f"ix_address_change_{column}"), "address_change", [column], unique=False)
    op.create_table(
        "second_factor",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("sealed", sa.Text(), nullable=False),
        sa.Column("begun_at", moment, nullable=False),
        sa.Column("confirmed_at", moment, nullable=True),
        sa.Column("last_step", sa.Integer(), nullable=False),
        sa.Column("recovery", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_second_factor_person_id_person")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_second_factor_member_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_second_factor")),
        sa.UniqueConstraint("person_id", name=op.f("uq_second_factor_person_id")),
        sa.UniqueConstraint("member_id", name=op.f("uq_second_factor_member_id")),
    )
