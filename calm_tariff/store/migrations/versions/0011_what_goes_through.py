"""What back ends read differently goes through only where an API says so, and their passwords are sealed"""

import sqlalchemy as sa
from alembic import op

revision = "0011"
down_revision = "0010"


def upgrade() -> None:
    op.add_column("api_version", sa.Column("lets_through", sa.JSON(), nullable=False, server_default="[]"))
    for name in ("back_end_login", "sandbox_login"):
        op.add_column("api_version", sa.Column(name, sa.Text(), nullable=False, server_default=""))
