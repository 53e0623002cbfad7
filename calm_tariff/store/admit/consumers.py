"""The consumers, their members, and those who want to become one."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import Column, ForeignKey, String, Table, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.admit.portals import Portal
from calm_tariff.store.base.columns import Base, Hash, Id, Name, Prose, Word
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.house.people import Account


class Consumer(Base):
    """An organisation that calls the APIs. `look` and `shape` are digests of how its name looks, so that no other can
    be taken for it. States: core.lifecycles.CONSUMER. `portal` is the one it came by, to which letters lead.
    `closed_at` is when its account was closed. How it pays (core.payment) is None until somebody has said so. `country`
    is its code by ISO 3166-1; `tax_number` has the form that is usual there. How it is taxed is `tax_treatment`
    (core.billing.documents.tax), and `tax_note` says why, where it is not as usual. What was personal in it was taken
    out at `erased_at`. `merged_into_id` is the one that goes on in its place, never one that was merged itself; what it
    did and paid stays under its own id."""

    __tablename__ = "consumer"
    id: Mapped[Id]
    name: Mapped[Name] = mapped_column(unique=True)
    look: Mapped[Hash] = mapped_column(unique=True)
    shape: Mapped[Hash] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    state: Mapped[Word] = mapped_column(default="let in", index=True)
    closed_at: Mapped[datetime | None]
    payment_method: Mapped[str | None] = mapped_column(String(40))
    order_number: Mapped[Word] = mapped_column(default="")
    address: Mapped[Prose] = mapped_column(default="")
    country: Mapped[str] = mapped_column(String(2), default="")
    tax_number: Mapped[Word] = mapped_column(default="")
    tax_treatment: Mapped[Word] = mapped_column(default="standard")
    tax_note: Mapped[Name] = mapped_column(default="")
    erased_at: Mapped[datetime | None]
    merged_into_id: Mapped[int | None] = mapped_column(ForeignKey("consumer.id"), index=True)
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"), index=True)
    portal: Mapped[Portal] = relationship()
    groups: Mapped[list[ConsumerGroup]] = relationship(secondary="consumer_in_group", order_by="ConsumerGroup.name")


class ConsumerReference(Base):
    """What another system knows a consumer by: a reference there is one consumer's alone."""

    __tablename__ = "consumer_reference"
    __table_args__ = (UniqueConstraint("system", "reference"),)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), primary_key=True, autoincrement=False)
    system: Mapped[Word] = mapped_column(primary_key=True)
    reference: Mapped[Name]


class Suspension(Base):
    """A stretch in which no call of a consumer is let through, by the provider's word, and why."""

    __tablename__ = "suspension"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    start_at: Mapped[datetime]
    end_at: Mapped[datetime | None]
    reason: Mapped[Prose]
    suspended_by: Mapped[Name]
    resumed_by: Mapped[str | None] = mapped_column(String(200))


class PaymentPause(Base):
    """A stretch in which no call of a consumer is let through because an invoice was not paid. Its subscriptions, and
    what is charged for them, go on."""

    __tablename__ = "payment_pause"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    start_at: Mapped[datetime]
    end_at: Mapped[datetime | None]
    invoice: Mapped[Word]


class ConsumerNote(Base):
    """What one of the provider's people noted about a consumer, for colleagues alone."""

    __tablename__ = "consumer_note"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    at: Mapped[datetime]
    by: Mapped[Name]
    identity: Mapped[str] = mapped_column(String(60))
    text: Mapped[Prose]


ConsumerInGroup = Table(
    "consumer_in_group",
    Base.metadata,
    Column("consumer_id", ForeignKey("consumer.id"), primary_key=True),
    Column("group_id", ForeignKey("consumer_group.id"), primary_key=True),
)


class Member(Account, Base):
    """Somebody of a consumer. `role`: core.membership.ROLES. One who has left stays for what they did, under the name
    they had, with no address and no password; without the name, too, where it was erased."""

    __tablename__ = "member"
    role: Mapped[Word]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    joined_at: Mapped[datetime | None]
    left_at: Mapped[datetime | None]
    erased_at: Mapped[datetime | None]
    consumer: Mapped[Consumer] = relationship(lazy="joined")

    @property
    def at(self) -> str:
        """Where the portal of its consumer is, to be joined to the installation's address."""
        return self.consumer.portal.where


class MemberInvitation(Base):
    """Somebody whom an owner of an organisation has asked to belong to it, as a role; whoever has the letter's token
    may. Good for one, once."""

    __tablename__ = "member_invitation"
    __table_args__ = (UniqueConstraint("consumer_id", "email"),)
    id: Mapped[Id]
    token_hash: Mapped[Hash] = mapped_column(unique=True)
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"))
    consumer: Mapped[Consumer] = relationship(lazy="joined")
    email: Mapped[Name]
    role: Mapped[Word]
    invited_by: Mapped[Name]
    invited_at: Mapped[datetime]
    expires_at: Mapped[datetime] = mapped_column(index=True)


class AwaitedSignUp(Base):
    """Somebody said that a mail address is theirs, and was written to; whoever has the letter's token has proved it.
    `invited_by` is who of the provider's people asked them to come."""

    __tablename__ = "awaited_sign_up"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    email: Mapped[Name] = mapped_column(index=True)
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"), index=True)
    invited_by: Mapped[str | None] = mapped_column(String(200))
    invited_at: Mapped[datetime | None]
    expires_at: Mapped[datetime] = mapped_column(index=True)
