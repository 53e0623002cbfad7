"""Questions about products, their answers, and ratings."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey, Index, SmallInteger, String, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.consumers import Member
from calm_tariff.store.base.columns import Base, Id, Name, Prose, Word
from calm_tariff.store.compose.products import Product


class Question(Base):
    """What somebody asked about a product, in Markdown. States: core.lifecycles.POST; `hidden_why` is what its asker is
    told of why it is hidden. `moved_at` is when it or one of its answers last changed."""

    __tablename__ = "question"
    __table_args__ = (Index("ix_question_product", "product_id", "state", "moved_at"),)
    id: Mapped[Id]
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"))
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"), index=True)
    title: Mapped[Name]
    text: Mapped[Prose]
    state: Mapped[Word] = mapped_column(default="shown")
    hidden_why: Mapped[Prose] = mapped_column(default="")
    asked_at: Mapped[datetime]
    changed_at: Mapped[datetime | None]
    moved_at: Mapped[datetime]
    product: Mapped[Product] = relationship(lazy="joined")
    member: Mapped[Member] = relationship(lazy="joined")


class Answer(Base):
    """What somebody answered, in Markdown: a member of a consumer, or, where there is none, the provider, for whom
    `signed` did. `accepted_at` is when it was said to have helped: of one question one answer at most."""

    __tablename__ = "answer"
    id: Mapped[Id]
    question_id: Mapped[int] = mapped_column(ForeignKey("question.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    signed: Mapped[Name]
    text: Mapped[Prose]
    state: Mapped[Word] = mapped_column(default="shown")
    hidden_why: Mapped[Prose] = mapped_column(default="")
    answered_at: Mapped[datetime]
    changed_at: Mapped[datetime | None]
    accepted_at: Mapped[datetime | None]
    member: Mapped[Member | None] = relationship(lazy="joined")


class QuestionFollower(Base):
    """A member who is told of new answers to a question."""

    __tablename__ = "question_follower"
    question_id: Mapped[int] = mapped_column(ForeignKey("question.id"), primary_key=True)
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"), primary_key=True, index=True)


class PostReport(Base):
    """A consumer says that a question, or one of its answers, should not stand there; a person of the provider's
    settles that. `answer_id` is 0 where it is about the question."""

    __tablename__ = "post_report"
    __table_args__ = (UniqueConstraint("question_id", "answer_id", "consumer_id"),)
    id: Mapped[Id]
    question_id: Mapped[int] = mapped_column(ForeignKey("question.id"))
    answer_id: Mapped[int] = mapped_column(BigInteger)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"), index=True)
    reason: Mapped[Prose]
    reported_at: Mapped[datetime]
    settled_at: Mapped[datetime | None] = mapped_column(index=True)
    settled_by: Mapped[str | None] = mapped_column(String(200))
    member: Mapped[Member] = relationship(lazy="joined")


class Rating(Base):
    """What an organisation gives a product, from one to five; who said so last, and when."""

    __tablename__ = "rating"
    product_id: Mapped[int] = mapped_column(ForeignKey("product.id"), primary_key=True)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True, index=True)
    stars: Mapped[int] = mapped_column(SmallInteger)
    member_id: Mapped[int] = mapped_column(ForeignKey("member.id"), index=True)
    rated_at: Mapped[datetime]
    member: Mapped[Member] = relationship(lazy="joined")
