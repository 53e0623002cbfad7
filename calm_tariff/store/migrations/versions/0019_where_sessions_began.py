"""Where a session began, and in which browser, for whose it is"""

import sqlalchemy as sa
from alembic import op

revision = "0019"
down_revision = "0018"


def upgrade() -> None:
    op.add_column("signed_in", sa.Column("address", sa.String(60), nullable=False, server_default=""))
    op.add_column("signed_in", sa.Column("browser", sa.String(200), nullable=False, server_default=""))
    op.alter_column("signed_in", "address", server_default=None, existing_type=sa.String(60), existing_nullable=False)
    op.alter_column("signed_in", "browser", server_default=None, existing_type=sa.String(200), existing_nullable=False)
