"""Notices are told in the provider's own words, and letters know what kind they are of"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0039"
down_revision = "0038"

_MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.add_column("notice", sa.Column("fields", sa.JSON(), nullable=True))
    op.create_index("ix_notice_kind", "notice", ["kind", "id"], unique=False)
    op.add_column("mail", sa.Column("kind", sa.String(40), nullable=False, server_default=""))
    op.alter_column("mail", "kind", server_default=None, existing_type=sa.String(40), existing_nullable=False)
    op.create_index(op.f("ix_mail_created_at"), "mail", ["created_at"], unique=False)
    op.create_table(
        "notice_kind",
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("subject", sa.Text(), nullable=True),
        sa.Column("text", sa.Text(), nullable=True),
        sa.Column("html", mysql.LONGTEXT(), nullable=True),
        sa.Column("by_mail", sa.Boolean(), nullable=False),
        sa.Column("trouble", sa.String(200), nullable=False),
        sa.Column("changed_by", sa.String(200), nullable=False),
        sa.Column("changed_at", _MOMENT, nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("kind", name=op.f("pk_notice_kind")),
    )
