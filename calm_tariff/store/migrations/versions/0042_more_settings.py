"""The provider says how invoices are numbered, by when requests are answered, and for how long calls are kept"""

import sqlalchemy as sa
from alembic import op

revision = "0042"
down_revision = "0041"


def upgrade() -> None:
    for name, of, before in (
        ("target_days", sa.Integer(), "2"),
        ("invoice_prefix", sa.String(10), "INV"),
        ("call_months", sa.Integer(), "0"),
    ):
        op.add_column("provider", sa.Column(name, of, nullable=False, server_default=before))
        op.alter_column("provider", name, server_default=None, existing_type=of, existing_nullable=False)
    op.add_column("provider", sa.Column("calls_from", sa.Date(), nullable=True))
