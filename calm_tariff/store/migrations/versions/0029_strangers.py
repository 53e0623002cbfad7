"""Products sold open, and what anyone may try in the sandbox"""

import sqlalchemy as sa
from alembic import op

revision = "0029"
down_revision = "0028"


def upgrade() -> None:
    op.add_column("product", sa.Column("strangers_plan_id", sa.BigInteger(), nullable=True))
    op.create_foreign_key(op.f("fk_product_strangers_plan_id_plan"), "product", "plan", ["strangers_plan_id"], ["id"])
    op.add_column("operation", sa.Column("tried_by_anyone", sa.Boolean(), nullable=False, server_default="0"))
    op.alter_column("operation", "tried_by_anyone", server_default=None, existing_type=sa.Boolean(), nullable=False)
    op.add_column("api_version", sa.Column("tries_an_hour", sa.Integer(), nullable=False, server_default="30"))
    op.alter_column("api_version", "tries_an_hour", server_default=None, existing_type=sa.Integer(), nullable=False)
