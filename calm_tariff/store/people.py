"""The provider, its staff, the consumers and their members, and who is signed in."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal

from sqlalchemy import Column, ForeignKey, Numeric, String, Table
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.store.base import Base, Hash, Id, Name, Prose, Word


class Provider(Base):
    """The one organisation whose APIs are sold, with what its portal looks like."""

    __tablename__ = "provider"
    id: Mapped[Id]
    name: Mapped[Name]
    time_zone: Mapped[Word]
    currency: Mapped[str] = mapped_column(String(3))
    tax_percent: Mapped[Decimal] = mapped_column(Numeric(7, 4))
    mail_from: Mapped[Name]
    payment_days: Mapped[int] = mapped_column(default=14)
    portal_main_colour: Mapped[str] = mapped_column(String(7), default="#153B5B")
    portal_accent_colour: Mapped[str] = mapped_column(String(7), default="#E0A93B")
    portal_welcome: Mapped[Prose] = mapped_column(default="")


class Person(Base):
    """Somebody of the provider. `role`: product manager, reviewer, operations, finance."""

    __tablename__ = "person"
    id: Mapped[Id]
    email: Mapped[Name] = mapped_column(unique=True)
    name: Mapped[Name]
    role: Mapped[Word]
    password_hash: Mapped[Name]


class Consumer(Base):
    """An organisation that calls the APIs. `look` and `shape` are digests of how its name looks, so that no other
    can be taken for it."""

    __tablename__ = "consumer"
    id: Mapped[Id]
    name: Mapped[Name] = mapped_column(unique=True)
    look: Mapped[Hash] = mapped_column(unique=True)
    shape: Mapped[Hash] = mapped_column(unique=True)
    created_at: Mapped[datetime]
    groups: Mapped[list[ConsumerGroup]] = relationship(
        secondary="consumer_in_group", back_populates="consumers", order_by="ConsumerGroup.name"
    )


ConsumerInGroup = Table(
    "consumer_in_group",
    Base.metadata,
    Column("consumer_id", ForeignKey("consumer.id"), primary_key=True),
    Column("group_id", ForeignKey("consumer_group.id"), primary_key=True),
)


class ConsumerGroup(Base):
    """Consumers that may see what others may not."""

    __tablename__ = "consumer_group"
    id: Mapped[Id]
    name: Mapped[Name] = mapped_column(unique=True)
    consumers: Mapped[list[Consumer]] = relationship(
        secondary=ConsumerInGroup, back_populates="groups", order_by="Consumer.name"
    )


class Member(Base):
    """Somebody of a consumer. `role`: owner, developer."""

    __tablename__ = "member"
    id: Mapped[Id]
    consumer_id: Mapped[int] = mapped_column(ForeignKey("consumer.id"), index=True)
    email: Mapped[Name] = mapped_column(unique=True)
    name: Mapped[Name]
    role: Mapped[Word]
    password_hash: Mapped[Name]
    consumer: Mapped[Consumer] = relationship(lazy="joined")


class Attempts(Base):
    """How often somebody tried to sign in, in one window: `place` is a digest of who, or from where."""

    __tablename__ = "attempts"
    place: Mapped[Hash] = mapped_column(primary_key=True)
    made: Mapped[int]
    expires_at: Mapped[datetime] = mapped_column(index=True)


class SignedIn(Base):
    """A session in a browser, of a person or of a member. It ends when it is not used for a while, and in any case at
    `expires_at`."""

    __tablename__ = "signed_in"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    created_at: Mapped[datetime]
    seen_at: Mapped[datetime]
    expires_at: Mapped[datetime] = mapped_column(index=True)


class AwaitedSignUp(Base):
    """Somebody said that a mail address is theirs, and was written to; whoever has the letter's token has proved it."""

    __tablename__ = "awaited_sign_up"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    email: Mapped[Name] = mapped_column(index=True)
    expires_at: Mapped[datetime] = mapped_column(index=True)


class PasswordReset(Base):
    """Somebody forgot a password, and was written to; whoever has the letter's token may set another, once."""

    __tablename__ = "password_reset"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    expires_at: Mapped[datetime] = mapped_column(index=True)


class ServiceToken(Base):
    """A secret with which a script does what its owner's role may do; made at the machine itself, it has no owner."""

    __tablename__ = "service_token"
    id: Mapped[Id]
    label: Mapped[Name]
    role: Mapped[Word]
    token_hash: Mapped[Hash] = mapped_column(unique=True)
    owner_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    created_at: Mapped[datetime]
    expires_at: Mapped[datetime]
    revoked_at: Mapped[datetime | None]
    used_at: Mapped[datetime | None]
    used_from: Mapped[Word] = mapped_column(default="")
    owner: Mapped[Person | None] = relationship(lazy="joined")


class ServiceTokenPlace(Base):
    """An address a service token was used from."""

    __tablename__ = "service_token_place"
    secret_id: Mapped[int] = mapped_column(ForeignKey("service_token.id"), primary_key=True)
    address: Mapped[Word] = mapped_column(primary_key=True)
    first_at: Mapped[datetime]
