"""Questions about products, their answers, and ratings"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0025"
down_revision = "0024"


def upgrade() -> None:
    moment = mysql.DATETIME(fsp=6)
    op.create_table(
        "question",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("product_id", sa.BigInteger(), nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=False),
        sa.Column("title", sa.String(200), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("hidden_why", sa.Text(), nullable=False),
        sa.Column("asked_at", moment, nullable=False),
        sa.Column("changed_at", moment, nullable=True),
        sa.Column("moved_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_question_product_id_product")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_question_member_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_question")),
    )
    op.create_index("ix_question_product", "question", ["product_id", "state", "moved_at"], unique=False)
    op.create_index(op.f("ix_question_member_id"), "question", ["member_id"], unique=False)
    op.create_table(
        "answer",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("question_id", sa.BigInteger(), nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=True),
        sa.Column("signed", sa.String(200), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("state", sa.String(40), nullable=False),
        sa.Column("hidden_why", sa.Text(), nullable=False),
        sa.Column("answered_at", moment, nullable=False),
        sa.Column("changed_at", moment, nullable=True),
        sa.Column("accepted_at", moment, nullable=True),
        sa.ForeignKeyConstraint(["question_id"], ["question.id"], name=op.f("fk_answer_question_id_question")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_answer_member_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_answer")),
    )
    op.create_index(op.f("ix_answer_question_id"), "answer", ["question_id"], unique=False)
    op.create_index(op.f("ix_answer_member_id"), "answer", ["member_id"], unique=False)
    op.create_table(
        "question_follower",
        sa.Column("question_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("member_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.ForeignKeyConstraint(
            ["question_id"], ["question.id"], name=op.f("fk_question_follower_question_id_question")
        ),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_question_follower_member_id_member")),
        sa.PrimaryKeyConstraint("question_id", "member_id", name=op.f("pk_question_follower")),
    )
    op.create_index(op.f("ix_question_follower_member_id"), "question_follower", ["member_id"], unique=False)
    op.create_table(
        "post_report",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column("question_id", sa.BigInteger(), nullable=False),
        sa.Column("answer_id", sa.BigInteger(), nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("reported_at", moment, nullable=False),
        sa.Column("settled_at", moment, nullable=True),
        sa.Column("settled_by", sa.String(200), nullable=True),
        sa.ForeignKeyConstraint(["question_id"], ["question.id"], name=op.f("fk_post_report_question_id_question")),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_post_report_consumer_id_consumer")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_post_report_member_id_member")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_post_report")),
        sa.UniqueConstraint(
            "question_id", "answer_id", "consumer_id", name=op.f("uq_post_report_question_id_answer_id_consumer_id")
        ),
    )
    op.create_index(op.f("ix_post_report_consumer_id"), "post_report", ["consumer_id"], unique=False)
    op.create_index(op.f("ix_post_report_member_id"), "post_report", ["member_id"], unique=False)
    op.create_index(op.f("ix_post_report_settled_at"), "post_report", ["settled_at"], unique=False)
    op.create_table(
        "rating",
        sa.Column("product_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("stars", sa.SmallInteger(), nullable=False),
        sa.Column("member_id", sa.BigInteger(), nullable=False),
        sa.Column("rated_at", moment, nullable=False),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_rating_product_id_product")),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_rating_consumer_id_consumer")),
        sa.ForeignKeyConstraint(["member_id"], ["member.id"], name=op.f("fk_rating_member_id_member")),
        sa.PrimaryKeyConstraint("product_id", "consumer_id", name=op.f("pk_rating")),
    )
    op.create_index(op.f("ix_rating_consumer_id"), "rating", ["consumer_id"], unique=False)
    op.create_index(op.f("ix_rating_member_id"), "rating", ["member_id"], unique=False)
