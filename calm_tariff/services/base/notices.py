"""Telling people: one notice for each, in the transaction of what it speaks of, kept for them and sent as a letter."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

from sqlalchemy.orm import Session

from calm_tariff.core.names import cut
from calm_tariff.formats.letters import Address, letter
from calm_tariff.services.base import mailing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.base.notices import Notice as Stored

Kind = Literal[
    "invoice issued",
    "terms of use changed",
    "version ends",
    "plan changes",
    "plan moved",
    "trial over",
    "limit changed",
    "request granted",
    "request declined",
    "password forgotten",
    "account asked for",
    "account there already",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class Recipient:
    """Who is told: a mail address, and whose account it is. One without an account gets the letter alone."""

    email: str
    name: str = ""
    member_id: int | None = None
    person_id: int | None = None


class Account(Protocol):
    """A stored account of somebody."""

    @property
    def id(self) -> Any:
        """Whose it is."""

    @property
    def email(self) -> Any:
        """The mail address."""

    @property
    def name(self) -> Any:
        """The name."""


def members(accounts: Iterable[Account]) -> list[Recipient]:
    """Consumers' members as those who are told."""
    return [Recipient(email=each.email, name=each.name, member_id=each.id) for each in accounts]


@dataclass(frozen=True, slots=True, kw_only=True)
class Notice:
    """What is told: its kind, which has a template; what that is filled in with; and the page to look at, from the
    first slash on. What a confidential one says is kept nowhere once it was sent."""

    kind: Kind
    fields: Mapping[str, Any] = field(default_factory=dict)
    page: str = ""
    confidential: bool = False


def notify(session: Session, ctx: Context, audience: Iterable[Recipient], notice: Notice) -> None:
    """Tell everybody of an audience."""
    common = {"office": provider_of(session).name, "link": Address(f"{ctx.web_address}{notice.page}"), **notice.fields}
    for each in audience:
        said = letter(notice.kind.replace(" ", "_"), {**common, "name": each.name})
        mailing.write(session, ctx, each.email, said, notice.confidential)
        whose = ("member", each.member_id) if each.member_id is not None else ("person", each.person_id)
        if whose[1] is not None and not notice.confidential:
            session.add(
                Stored(
                    audience=whose[0],
                    audience_id=whose[1],
                    kind=notice.kind,
                    subject=cut(said.subject),
                    text=said.text,
                    link=cut(notice.page),
                    written_at=ctx.now,
                )
            )
