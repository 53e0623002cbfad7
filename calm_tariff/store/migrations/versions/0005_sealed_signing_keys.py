"""Signing keys are sealed with a secret that the database does not hold; those it could read are given up

Tokens live a quarter of an hour, and their clients ask for new ones."""

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"


def upgrade() -> None:
    op.execute("DELETE FROM signing_key")
    op.drop_column("signing_key", "private")
    op.add_column("signing_key", sa.Column("public", sa.Text(), nullable=False))
    op.add_column("signing_key", sa.Column("sealed", sa.Text(), nullable=False))
