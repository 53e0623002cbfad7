"""What volume requests expect, by meter"""

import sqlalchemy as sa
from alembic import op

revision = "0028"
down_revision = "0027"


def upgrade() -> None:
    op.add_column("access_request", sa.Column("expected", sa.JSON(), nullable=False, server_default=sa.text("'[]'")))
    op.alter_column("access_request", "expected", server_default=None, existing_type=sa.JSON(), existing_nullable=False)
