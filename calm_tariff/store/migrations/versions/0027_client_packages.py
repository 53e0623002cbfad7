"""Generated clients"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0027"
down_revision = "0026"


def upgrade() -> None:
    op.create_table(
        "client_package",
        sa.Column("digest", sa.String(64), nullable=False),
        sa.Column("language", sa.String(40), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("document", mysql.LONGTEXT(), nullable=False),
        sa.Column("facts", sa.Text(), nullable=False),
        sa.Column("asked_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("ready", sa.Boolean(), nullable=False),
        sa.Column("content", mysql.LONGBLOB(), nullable=True),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_client_package")),
    )
    op.create_index(op.f("ix_client_package_asked_at"), "client_package", ["asked_at"], unique=False)
