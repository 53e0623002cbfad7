"""The provider's people, who is signed in, and who tried."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, String
from sqlalchemy.orm import Mapped, mapped_column

from calm_tariff.store.base.columns import Base, Hash, Id, Name, Prose


class Account:
    """Somebody who signs in with a password: one of the provider's people, or a consumer's member."""

    id: Mapped[Id]
    email: Mapped[Name] = mapped_column(unique=True)
    name: Mapped[Name]
    password_hash: Mapped[Name]


class Person(Account, Base):
    """Somebody of the provider. `roles`: some of core.house.ROLES. One who was deactivated stays for what they did, and
    cannot sign in."""

    __tablename__ = "person"
    roles: Mapped[list[Any]]
    joined_at: Mapped[datetime | None]
    deactivated_at: Mapped[datetime | None]


class PersonInvitation(Base):
    """Somebody whom an owner of the house has asked to come in, with roles; whoever has the letter's token may. Good
    for one, once."""

    __tablename__ = "person_invitation"
    id: Mapped[Id]
    token_hash: Mapped[Hash] = mapped_column(unique=True)
    email: Mapped[Name] = mapped_column(unique=True)
    roles: Mapped[list[Any]]
    invited_by: Mapped[Name]
    invited_at: Mapped[datetime]
    expires_at: Mapped[datetime] = mapped_column(index=True)


class Attempts(Base):
    """How often somebody tried to sign in, in one window: `place` is a digest of who, or from where."""

    __tablename__ = "attempts"
    place: Mapped[Hash] = mapped_column(primary_key=True)
    made: Mapped[int]
    expires_at: Mapped[datetime] = mapped_column(index=True)


class SignedIn(Base):
    """A session in a browser, of a person or of a member. It ends when it is not used for a while, and in any case at
    `expires_at`. Where it began, and in which browser by the browser's own word, is for whose it is. `outside`: it was
    begun through an outside provider, which sees to the second factor itself."""

    __tablename__ = "signed_in"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    created_at: Mapped[datetime]
    seen_at: Mapped[datetime]
    expires_at: Mapped[datetime] = mapped_column(index=True)
    address: Mapped[str] = mapped_column(String(60), default="")
    browser: Mapped[Name] = mapped_column(default="")
    outside: Mapped[bool] = mapped_column(default=False)


class AddressChange(Base):
    """Somebody wants letters at another mail address, to which one was sent; whoever has its token has shown that it is
    theirs."""

    __tablename__ = "address_change"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    email: Mapped[Name]
    expires_at: Mapped[datetime] = mapped_column(index=True)


class SecondFactor(Base):
    """What somebody shows at the sign-in beside the password: codes made of a secret (RFC 6238), which is sealed. It
    counts from `confirmed_at` on. No code of `last_step` or before is taken again; `recovery` are the hashes of codes
    that are good once each."""

    __tablename__ = "second_factor"
    id: Mapped[Id]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), unique=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), unique=True)
    sealed: Mapped[Prose]
    begun_at: Mapped[datetime]
    confirmed_at: Mapped[datetime | None]
    last_step: Mapped[int] = mapped_column(default=0)
    recovery: Mapped[list[Any]]


class Passkey(Base):
    """A key pair of somebody's, of which we keep the public half (COSE, base64url): what has the private half opens the
    account alone. It was made for one name, `host`, and is found by a digest of its credential id."""

    __tablename__ = "passkey"
    id: Mapped[Id]
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    credential_hash: Mapped[Hash] = mapped_column(unique=True)
    credential: Mapped[Prose]
    public_key: Mapped[Prose]
    host: Mapped[str] = mapped_column(String(253))
    label: Mapped[Name]
    uses: Mapped[int] = mapped_column(BigInteger)
    made_at: Mapped[datetime]
    used_at: Mapped[datetime | None]


class PasskeyChallenge(Base):
    """What was given to somebody's passkey to sign, once: to whoever makes one, or to nobody known yet."""

    __tablename__ = "passkey_challenge"
    challenge_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    expires_at: Mapped[datetime] = mapped_column(index=True)


class PasswordReset(Base):
    """Somebody forgot a password, and was written to; whoever has the letter's token may set another, once."""

    __tablename__ = "password_reset"
    token_hash: Mapped[Hash] = mapped_column(primary_key=True)
    person_id: Mapped[int | None] = mapped_column(ForeignKey("person.id"), index=True)
    member_id: Mapped[int | None] = mapped_column(ForeignKey("member.id"), index=True)
    expires_at: Mapped[datetime] = mapped_column(index=True)
