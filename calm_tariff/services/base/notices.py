"""Telling people: one notice for each, in the transaction of what it speaks of, kept for them and sent as a letter."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol
from urllib.parse import urljoin

from jinja2 import TemplateError
from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from calm_tariff.core.names import cut
from calm_tariff.core.notices import Group, Kind, Words, group_of
from calm_tariff.formats.letter_words import built_in
from calm_tariff.formats.letters import Address, Letter, letter, plain
from calm_tariff.services.base import mailing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.base.notices import Notice as Stored
from calm_tariff.store.base.notices import NoticeChoice, NoticeKind

log = logging.getLogger("calm_tariff.mail")


@dataclass(frozen=True, slots=True, kw_only=True)
class Recipient:
    """Who is told: a mail address, and whose account it is. One without an account gets the letter alone. The page
    that a notice leads to is below `at`, which is joined to the installation's address."""

    email: str
    name: str = ""
    at: str = ""
    member_id: int | None = None
    person_id: int | None = None

    @property
    def whose(self) -> tuple[str, int | None]:
        """The audience and the id in it under which notices are kept; no id for one without an account."""
        return ("member", self.member_id) if self.member_id is not None else ("person", self.person_id)


class Account(Protocol):
    """A stored account of a consumer's member."""

    @property
    def id(self) -> Any:
        """Whose it is."""

    @property
    def email(self) -> Any:
        """The mail address."""

    @property
    def name(self) -> Any:
        """The name."""

    @property
    def at(self) -> str:
        """Where their portal is."""


def members(accounts: Iterable[Account]) -> list[Recipient]:
    """Consumers' members as those who are told."""
    return [Recipient(email=each.email, name=each.name, member_id=each.id, at=each.at) for each in accounts]


@dataclass(frozen=True, slots=True, kw_only=True)
class Notice:
    """What is told: its kind, which has a template; what that is filled in with; and the page to look at, from the
    first slash on, below where each is at home. What a confidential one says is kept nowhere once it was sent.
    Its letter `encloses` a document of money, by its id."""

    kind: Kind
    fields: Mapping[str, Any] = field(default_factory=dict)
    page: str = ""
    confidential: bool = False
    encloses: int | None = None


def notify(session: Session, ctx: Context, audience: Iterable[Recipient], notice: Notice) -> None:
    """Tell everybody of an audience: by mail as well, but for those who do not want that of such notices. Where `ctx`
    holds it back, nobody hears of it until then."""
    provider = provider_of(session)
    office, foot = provider.name, f"{provider.name}\n{provider.address}" if provider.address else ""
    everybody = list(audience)
    own = session.get(NoticeKind, notice.kind)
    quiet = _not_by_mail(session, everybody, group_of(notice.kind), own)
    for each in everybody:
        link = Address(urljoin(ctx.web_address, each.at) + notice.page)
        fields = {"office": office, "link": link, **notice.fields, "name": each.name}
        said = _filled(notice.kind, own, fields, foot)
        whose = each.whose
        if whose not in quiet:
            about = mailing.About(
                kind=notice.kind, page=notice.page, confidential=notice.confidential, encloses=notice.encloses
            )
            mailing.write(session, ctx, each.email, said, about)
        if whose[1] is not None and not notice.confidential:
            session.add(
                Stored(
                    audience=whose[0],
                    audience_id=whose[1],
                    kind=notice.kind,
                    subject=cut(said.subject),
                    text=said.text,
                    link=cut(notice.page),
                    fields=plain(fields),
                    written_at=ctx.holding.until if ctx.holding else ctx.now,
                    cause=ctx.holding.cause if ctx.holding else None,
                )
            )


def tell_now(session: Session, ctx: Context, cause: str) -> None:
    """Tell at once what was held back because of something."""
    held = (Stored.cause == cause) & (Stored.written_at > ctx.now)
    session.execute(update(Stored).where(held).values(written_at=ctx.now))
    mailing.tell_now(session, ctx, cause)


def forget(session: Session, ctx: Context, cause: str) -> None:
    """Never tell what is still held back because of something."""
    session.execute(delete(Stored).where(Stored.cause == cause, Stored.written_at > ctx.now))
    mailing.forget(session, cause)


def words_of(own: NoticeKind | None, kind: Kind) -> Words:
    """The words in which a kind of notice is told: the provider's own, or those that ship with the product."""
    if own is not None and own.subject is not None and own.text is not None:
        return Words(subject=own.subject, text=own.text, html=own.html or "")
    return built_in(kind.replace(" ", "_"))


def _filled(kind: Kind, own: NoticeKind | None, fields: Mapping[str, Any], foot: str) -> Letter:
    """A notice in words. Own ones that cannot be filled in hold nothing up: those that ship with the product are told
    in their place, and what is wrong is kept."""
    try:
        return letter(words_of(own, kind), fields, foot)
    except (TemplateError, TypeError) as error:
        if own is None:
            raise
        log.error("the own words of %s cannot be filled in: %s", kind, error)
        own.trouble = cut(str(error))
        return letter(built_in(kind.replace(" ", "_")), fields, foot)


def _not_by_mail(
    session: Session, everybody: list[Recipient], group: Group | None, own: NoticeKind | None
) -> set[tuple[str, int | None]]:
    if group is None:
        return set()
    if own is not None and not own.by_mail:
        return {each.whose for each in everybody}
    known = {each.whose[1] for each in everybody} - {None}
    query = select(NoticeChoice.audience, NoticeChoice.audience_id).where(
        NoticeChoice.group == group, NoticeChoice.by_mail.is_(False), NoticeChoice.audience_id.in_(known)
    )
    return {(audience, identifier) for audience, identifier in session.execute(query)}
