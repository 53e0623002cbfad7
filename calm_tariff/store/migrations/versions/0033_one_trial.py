"""A consumer has one trial of a product: those that began until now are theirs"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0033"
down_revision = "0032"


def upgrade() -> None:
    op.create_table(
        "trial_had",
        sa.Column("consumer_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("product_id", sa.BigInteger(), autoincrement=False, nullable=False),
        sa.Column("begun_at", mysql.DATETIME(fsp=6), nullable=False),
        sa.ForeignKeyConstraint(["consumer_id"], ["consumer.id"], name=op.f("fk_trial_had_consumer_id_consumer")),
        sa.ForeignKeyConstraint(["product_id"], ["product.id"], name=op.f("fk_trial_had_product_id_product")),
        sa.PrimaryKeyConstraint("consumer_id", "product_id", name=op.f("pk_trial_had")),
    )
    op.execute(
        "INSERT INTO trial_had (consumer_id, product_id, begun_at) "
        "SELECT application.consumer_id, plan.product_id, MIN(stay.start_at) FROM stay "
        "JOIN subscription ON subscription.id = stay.subscription_id "
        "JOIN application ON application.id = subscription.application_id "
        "JOIN plan_revision ON plan_revision.id = stay.revision_id "
        "JOIN plan ON plan.id = plan_revision.plan_id "
        "WHERE stay.trial GROUP BY application.consumer_id, plan.product_id"
    )
