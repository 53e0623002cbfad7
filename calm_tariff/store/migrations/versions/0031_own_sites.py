"""Signing up and subscribing at the provider's own site, and documentation that asks for somebody's keys"""

import sqlalchemy as sa
from alembic import op

revision = "0031"
down_revision = "0030"


def upgrade() -> None:
    for table, column, kind in (
        ("portal", "sign_up_site", sa.String(200)),
        ("portal", "documentation_secret", sa.Text()),
        ("product", "subscribing_site", sa.String(200)),
    ):
        op.add_column(table, sa.Column(column, kind, nullable=False, server_default=sa.text("('')")))
        op.alter_column(table, column, server_default=None, existing_type=kind, existing_nullable=False)
