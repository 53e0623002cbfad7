"""From where the secrets of client ids are used is kept, as it is for service tokens"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0013"
down_revision = "0012"


def upgrade() -> None:
    op.alter_column(
        "service_token_place",
        "token_id",
        new_column_name="secret_id",
        existing_type=sa.BigInteger(),
        existing_nullable=False,
    )
    op.create_table(
        "api_key_place",
        sa.Column("secret_id", sa.BigInteger(), nullable=False),
        sa.Column("address", sa.String(length=40), nullable=False),
        sa.Column("first_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["secret_id"], ["api_key.id"]),
        sa.PrimaryKeyConstraint("secret_id", "address"),
    )
