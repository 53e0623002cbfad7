"""An organisation can be merged into another, which goes on in its place"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0043"
down_revision = "0042"


def upgrade() -> None:
    op.add_column("consumer", sa.Column("merged_into_id", sa.BigInteger(), nullable=True))
    op.create_foreign_key(op.f("fk_consumer_merged_into_id"), "consumer", "consumer", ["merged_into_id"], ["id"])
    op.create_index("ix_consumer_merged_into_id", "consumer", ["merged_into_id"])
    op.create_table(
        "application_before",
        sa.Column("application_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("until_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(
            ["application_id"], ["application.id"], name=op.f("fk_application_before_application_id")
        ),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_application_before_consumer_id")),
        sa.PrimaryKeyConstraint("application_id", "until_at"),
    )
    op.create_index("ix_application_before_consumer_id", "application_before", ["consumer_id"])
