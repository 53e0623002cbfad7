"""Portals of their own in place of the provider's one: what it looked like becomes the first, through which everybody
came who is there"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0016"
down_revision = "0015"
MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.create_table(
        "portal",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("path", sa.String(60), nullable=False),
        sa.Column("host", sa.String(253), nullable=True),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("welcome", sa.Text(), nullable=False),
        sa.Column("main_colour", sa.String(7), nullable=False),
        sa.Column("accent_colour", sa.String(7), nullable=False),
        sa.Column("title_font", sa.String(40), nullable=False),
        sa.Column("text_font", sa.String(40), nullable=False),
        sa.Column("sign_up", sa.String(40), nullable=False),
        sa.Column("mail_domains", sa.JSON(), nullable=False),
        sa.Column("at_once", sa.Boolean(), nullable=False),
        sa.Column("everything", sa.Boolean(), nullable=False),
        sa.Column("created_at", MOMENT, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_portal")),
        sa.UniqueConstraint("path", name=op.f("uq_portal_path")),
        sa.UniqueConstraint("host", name=op.f("uq_portal_host")),
    )
    for name, other in (("product", "product"), ("group", "consumer_group")):
        op.create_table(
            f"portal_{name}",
            sa.Column("portal_id", sa.BigInteger(), sa.ForeignKey("portal.id"), primary_key=True),
            sa.Column(f"{name}_id", sa.BigInteger(), sa.ForeignKey(f"{other}.id"), primary_key=True),
        )
    op.create_table(
        "portal_page",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("portal_id", sa.BigInteger(), sa.ForeignKey("portal.id"), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.Column("prefix", sa.String(40), nullable=False),
        sa.Column("title", sa.String(200), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_portal_page")),
        sa.UniqueConstraint("portal_id", "prefix", name=op.f("uq_portal_page_portal_id_prefix")),
    )
    op.create_table(
        "portal_picture",
        sa.Column("portal_id", sa.BigInteger(), sa.ForeignKey("portal.id"), primary_key=True),
        sa.Column("kind", sa.String(40), primary_key=True),
        sa.Column("digest", sa.String(64), nullable=False, index=True),
        sa.Column("width", sa.Integer(), nullable=False),
        sa.Column("height", sa.Integer(), nullable=False),
        sa.Column("content", mysql.MEDIUMBLOB(), nullable=False),
    )
    op.execute(
        "INSERT INTO portal (path, edition, name, welcome, main_colour, accent_colour, title_font, text_font, sign_up, "
        "mail_domains, at_once, everything, created_at) SELECT '/portal', 1, name, portal_welcome, portal_main_colour, "
        "portal_accent_colour, 'Newsreader', 'Figtree', 'anyone', '[]', 1, 1, UTC_TIMESTAMP(6) FROM provider"
    )
    for name in ("portal_main_colour", "portal_accent_colour", "portal_welcome"):
        op.drop_column("provider", name)
    op.add_column("consumer", sa.Column("state", sa.String(40), nullable=False, server_default="let in", index=True))
    op.alter_column("consumer", "state", existing_type=sa.String(40), existing_nullable=False, server_default=None)
    for table in ("consumer", "awaited_sign_up"):
        op.add_column(table, sa.Column("portal_id", sa.BigInteger(), nullable=True, index=True))
        op.execute(f"UPDATE {table} SET portal_id = (SELECT MIN(id) FROM portal)")
        op.alter_column(table, "portal_id", existing_type=sa.BigInteger(), nullable=False)
        op.create_foreign_key(op.f(f"fk_{table}_portal_id"), table, "portal", ["portal_id"], ["id"])
    op.add_column("awaited_sign_up", sa.Column("invited_by", sa.String(200), nullable=True))
    op.add_column("awaited_sign_up", sa.Column("invited_at", MOMENT, nullable=True))
    # What people were told leads to a page of their portal, wherever that is.
    op.execute("UPDATE notice SET link = SUBSTRING(link, 8) WHERE audience = 'member' AND link LIKE '/portal/%'")
