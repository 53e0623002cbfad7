"""Addresses and operations that keys are narrowed to"""

import sqlalchemy as sa
from alembic import op

revision = "0024"
down_revision = "0023"


def upgrade() -> None:
    for name in ("addresses", "operations"):
        op.add_column("api_key", sa.Column(name, sa.JSON(), nullable=False, server_default=sa.text("'[]'")))
        op.alter_column("api_key", name, server_default=None, existing_type=sa.JSON(), existing_nullable=False)
