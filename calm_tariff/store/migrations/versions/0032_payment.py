"""How a consumer pays, and what its books know the purchase by; what was charged until now was paid by transfer"""

import sqlalchemy as sa
from alembic import op

revision = "0032"
down_revision = "0031"


def upgrade() -> None:
    for table in ("consumer", "invoice"):
        op.add_column(table, sa.Column("payment_method", sa.String(40), nullable=True))
        number = sa.Column("order_number", sa.String(40), nullable=False, server_default=sa.text("('')"))
        op.add_column(table, number)
        op.alter_column(
            table, "order_number", server_default=None, existing_type=sa.String(40), existing_nullable=False
        )
    op.execute("UPDATE invoice SET payment_method = 'transfer' WHERE issued_at IS NOT NULL")
    op.execute("UPDATE consumer SET payment_method = 'transfer' WHERE id IN (SELECT consumer_id FROM invoice)")
