"""Partitions are made when an installation starts; the worker does it no more"""

from alembic import op

revision = "0015"
down_revision = "0014"


def upgrade() -> None:
    op.execute("DELETE FROM job WHERE kind = 'prepare partitions'")


def downgrade() -> None:
    pass  # a worker of before asks for it itself
