"""What applications are for, tags and last uses of keys, and what calls were sent with"""

import sqlalchemy as sa
from alembic import op

revision = "0026"
down_revision = "0025"


def upgrade() -> None:
    op.alter_column(
        "application", "description", new_column_name="purpose", existing_type=sa.Text(), existing_nullable=False
    )
    _add("application", sa.Column("environment", sa.String(40), nullable=False, server_default="live"))
    _add("application", sa.Column("contact", sa.String(200), nullable=False, server_default=""))
    _add("api_key", sa.Column("tags", sa.JSON(), nullable=False, server_default=sa.text("'{}'")))
    _add("call", sa.Column("sent", sa.JSON(), nullable=False, server_default=sa.text("'{}'")))
    kept = """'["accept", "content-type", "user-agent"]'"""
    _add("api_version", sa.Column("kept_headers", sa.JSON(), nullable=False, server_default=sa.text(kept)))
    _add("api_version", sa.Column("keeps_bodies", sa.Boolean(), nullable=False, server_default=sa.text("0")))
    op.create_table(
        "api_key_use",
        sa.Column("key_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("last_at_us", sa.BigInteger(), nullable=False),
        sa.Column("address", sa.String(60), nullable=False),
        sa.PrimaryKeyConstraint("key_id", name=op.f("pk_api_key_use")),
    )
    op.create_table(
        "call_bodies",
        sa.Column("call_id", sa.String(26), nullable=False),
        sa.Column("at_us", sa.BigInteger(), nullable=False),
        sa.Column("sent", sa.JSON(), nullable=True),
        sa.Column("answered", sa.JSON(), nullable=True),
        sa.PrimaryKeyConstraint("call_id", name=op.f("pk_call_bodies")),
    )
    op.create_index(op.f("ix_call_bodies_at_us"), "call_bodies", ["at_us"], unique=False)
    # Of the keys there are, the sums of hours tell the hour.
    op.execute(
        sa.text(
            "INSERT INTO api_key_use (key_id, last_at_us, address) SELECT key_id, MAX(hour_us), '' FROM hourly_outcomes"
            " WHERE key_id > 0 GROUP BY key_id"
        )
    )


def _add(table: str, column: "sa.Column[object]") -> None:
    """What is there already has the default; whoever writes anew says it."""
    op.add_column(table, column)
    op.alter_column(table, column.name, server_default=None, existing_type=column.type, existing_nullable=False)
