"""How requests are decided belongs to each product as a route and to each request as its way; what is said about one,
who agreed, who has it in hand and open, what may still be undone, and what the ticket desk was told and has said"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0035"
down_revision = "0034"

_MOMENT = mysql.DATETIME(fsp=6)


def upgrade() -> None:
    op.add_column("product", sa.Column("route", sa.JSON(), nullable=True))
    op.execute(
        """UPDATE product SET route = JSON_OBJECT('otherwise', access_route, 'rules', JSON_ARRAY(), 'agreements', JSON_ARRAY())"""
    )
    op.alter_column("product", "route", existing_type=sa.JSON(), nullable=False)
    op.add_column("product", sa.Column("target_days", sa.Integer(), nullable=True))
    _requests()
    _agreements()
    _messages()
    op.create_table(
        "request_viewer",
        sa.Column("request_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("identity", sa.String(60), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("seen_at", _MOMENT, nullable=False),
        sa.ForeignKeyConstraint(
            ["request_id"], ["access_request.id"], name=op.f("fk_request_viewer_request_id_access_request")
        ),
        sa.PrimaryKeyConstraint("request_id", "identity", name=op.f("pk_request_viewer")),
    )
    op.create_table(
        "decline_reason",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("text", sa.String(200), nullable=False),
        sa.Column("place", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_decline_reason")),
        sa.UniqueConstraint("text", name=op.f("uq_decline_reason_text")),
    )
    op.create_table(
        "received_webhook",
        sa.Column("id", sa.String(100), nullable=False),
        sa.Column("received_at", _MOMENT, nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_received_webhook")),
    )
    op.create_index(op.f("ix_received_webhook_received_at"), "received_webhook", ["received_at"], unique=False)
    for column in ("first_granted_by", "first_granted_id", "first_note"):
        op.drop_column("access_request", column)
    op.drop_column("product", "access_route")
    _add("subscription", sa.Column("undone", sa.Boolean(), nullable=False, server_default=sa.text("0")))
    _add("mail", sa.Column("page", sa.String(200), nullable=False, server_default=sa.text("''")))
    op.create_index(op.f("ix_mail_page"), "mail", ["page"], unique=False)
    for table in ("mail", "notice"):
        op.add_column(table, sa.Column("cause", sa.String(60), nullable=True))
        op.create_index(op.f(f"ix_{table}_cause"), table, ["cause"], unique=False)


def _requests() -> None:
    op.add_column("access_request", sa.Column("way", sa.JSON(), nullable=True))
    op.execute(
        "UPDATE access_request JOIN plan ON plan.id = access_request.plan_id JOIN product ON product.id = "
        "plan.product_id SET way = JSON_OBJECT('step', IF(access_request.state = 'passed to outside', 'outside', "
        "product.access_route), 'roles', JSON_ARRAY())"
    )
    op.execute("""UPDATE access_request SET way = '{"step": "reviewed", "roles": []}' WHERE way IS NULL""")
    op.alter_column("access_request", "way", existing_type=sa.JSON(), nullable=False)
    _add("access_request", sa.Column("weight", sa.Numeric(24, 4), nullable=False, server_default=sa.text("0")))
    _add("access_request", sa.Column("reason", sa.String(200), nullable=False, server_default=sa.text("''")))
    _add("access_request", sa.Column("edition", sa.Integer(), nullable=False, server_default=sa.text("1")))
    _add("access_request", sa.Column("ticket_state", sa.String(40), nullable=False, server_default=sa.text("''")))
    op.add_column("access_request", sa.Column("told_outside", sa.BigInteger(), nullable=True))
    op.execute("UPDATE access_request SET told_outside = 0 WHERE state = 'passed to outside'")
    for moment in ("due_at", "asked_back_at", "undo_until", "reminded_at"):
        op.add_column("access_request", sa.Column(moment, _MOMENT, nullable=True))
    for value in ("grant", "undo"):
        op.add_column("access_request", sa.Column(value, sa.JSON(), nullable=True))
    op.add_column("access_request", sa.Column("assigned_id", sa.BigInteger(), nullable=True))
    op.create_foreign_key(
        op.f("fk_access_request_assigned_id_person"), "access_request", "person", ["assigned_id"], ["id"]
    )
    op.create_index(op.f("ix_access_request_assigned_id"), "access_request", ["assigned_id"], unique=False)


def _agreements() -> None:
    op.create_table(
        "request_agreement",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("request_id", sa.BigInteger(), nullable=False),
        sa.Column("identity", sa.String(60), nullable=False),
        sa.Column("name", sa.String(200), nullable=False),
        sa.Column("seat", sa.String(40), nullable=False),
        sa.Column("note", sa.Text(), nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.ForeignKeyConstraint(
            ["request_id"], ["access_request.id"], name=op.f("fk_request_agreement_request_id_access_request")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_request_agreement")),
        sa.UniqueConstraint("request_id", "identity", name=op.f("uq_request_agreement_request_id_identity")),
    )
    op.execute(
        "INSERT INTO request_agreement (request_id, identity, name, seat, note, at) SELECT id, "
        "COALESCE(first_granted_id, CONCAT('named ', LEFT(first_granted_by, 50))), first_granted_by, 'review', "
        "first_note, COALESCE(decided_at, created_at) FROM access_request WHERE first_granted_by IS NOT NULL"
    )


def _messages() -> None:
    op.create_table(
        "request_message",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("request_id", sa.BigInteger(), nullable=False),
        sa.Column("at", _MOMENT, nullable=False),
        sa.Column("kind", sa.String(40), nullable=False),
        sa.Column("by", sa.String(200), nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("person_id", sa.BigInteger(), nullable=True),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("inside", sa.Boolean(), nullable=False),
        sa.ForeignKeyConstraint(
            ["request_id"], ["access_request.id"], name=op.f("fk_request_message_request_id_access_request")
        ),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_request_message_member_id_member")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_request_message_person_id_person")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_request_message")),
    )
    op.create_index(op.f("ix_request_message_request_id"), "request_message", ["request_id"], unique=False)
    # What is known of earlier requests is what was decided, by whom, with which words.
    op.execute(
        "INSERT INTO request_message (request_id, at, kind, `by`, text, inside) SELECT id, decided_at, state, "
        "COALESCE(decided_by, 'Calm Tariff'), note, 0 FROM access_request WHERE decided_at IS NOT NULL"
    )


def _add(table: str, column: "sa.Column[object]") -> None:
    """What is there already has the default; whoever writes anew says it."""
    op.add_column(table, column)
    op.alter_column(table, column.name, server_default=None, existing_type=column.type, existing_nullable=False)
