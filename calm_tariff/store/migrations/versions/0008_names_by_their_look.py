"""Organisations are told apart by how their names look, and a letter that cannot be sent says why

Of two that look alike today the later one keeps its name, and a digest of its own."""

import sqlalchemy as sa
from alembic import op

from calm_tariff.formats.addresses import looks

revision = "0008"
down_revision = "0007"


def upgrade() -> None:
    for name in ("look", "shape"):
        op.add_column("consumer", sa.Column(name, sa.String(64), nullable=True))
    taken: set[str] = set()
    connection = op.get_bind()
    for key, name in connection.execute(sa.text("SELECT id, name FROM consumer ORDER BY id")).all():
        look, shape = looks(name)
        if {look, shape} & taken:
            look = shape = f"{key:064d}"
        taken |= {look, shape}
        connection.execute(
            sa.text("UPDATE consumer SET look = :look, shape = :shape WHERE id = :id"),
            {"look": look, "shape": shape, "id": key},
        )
    for name in ("look", "shape"):
        op.alter_column("consumer", name, existing_type=sa.String(64), nullable=False)
        op.create_unique_constraint(f"uq_consumer_{name}", "consumer", [name])
    op.add_column("access_request", sa.Column("first_granted_id", sa.String(60), nullable=True))
    op.add_column("mail", sa.Column("failed", sa.Text(), nullable=True))
