"""Work that is done later, and what people were told: what waited to be done becomes jobs"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0014"
down_revision = "0013"

_WAITING = {
    (
        "send a letter",
        "NULL",
        "LEFT(CONCAT('“', subject, '” to ', recipient), 200)",
        "'letter', id",
        "UTC_TIMESTAMP(6)",
    ): "mail WHERE sent_at IS NULL AND failed IS NULL",
    (
        "end a trial",
        "id",
        "CONCAT('subscription ', id)",
        "'subscription', id",
        "UTC_TIMESTAMP(6)",
    ): "subscription WHERE state = 'trial'",
    (
        "end a version",
        "id",
        "CONCAT('API version ', id)",
        "'version', id",
        "sunset_at",
    ): "api_version WHERE state = 'sunset' AND sunset_at IS NOT NULL",
    (
        "ask the ticket desk",
        "id",
        "CONCAT('request ', id)",
        "'request', id",
        "UTC_TIMESTAMP(6)",
    ): "access_request WHERE state = 'passed to outside'",
}


def upgrade() -> None:
    op.create_table(
        "job",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("kind", sa.String(length=40), nullable=False),
        sa.Column("key", sa.String(length=100), nullable=True),
        sa.Column("about", sa.String(length=200), nullable=False),
        sa.Column("arguments", sa.JSON(), nullable=False),
        sa.Column("written_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("run_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("edition", sa.Integer(), nullable=False),
        sa.Column("claimed_until", mysql.DATETIME(fsp=6), nullable=True),
        sa.Column("last_error", sa.Text(), nullable=True),
        sa.Column("given_up_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_job")),
        sa.UniqueConstraint("kind", "key", name=op.f("uq_job_kind_key")),
    )
    op.create_index("ix_job_due", "job", ["given_up_at", "run_at"])
    op.create_table(
        "notice",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("audience", sa.String(length=40), nullable=False),
        sa.Column("audience_id", sa.BigInteger(), nullable=False),
        sa.Column("kind", sa.String(length=40), nullable=False),
        sa.Column("subject", sa.String(length=200), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("link", sa.String(length=200), nullable=False),
        sa.Column("written_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.Column("read_at", mysql.DATETIME(fsp=6), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_notice")),
    )
    op.create_index("ix_notice_audience", "notice", ["audience", "audience_id", "id"])
    op.add_column("mail", sa.Column("html", sa.Text(), nullable=True))
    for (kind, key, about, arguments, run_at), source in _WAITING.items():
        op.execute(
            "INSERT INTO job (kind, `key`, about, arguments, written_at, run_at, attempts, edition) "
            f"SELECT '{kind}', {key}, {about}, JSON_OBJECT({arguments}), UTC_TIMESTAMP(6), {run_at}, 0, 1 FROM {source}"
        )
