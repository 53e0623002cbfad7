"""Telling people: one notice for each, in the transaction of what it speaks of, kept for them and sent as a letter."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol
from urllib.parse import urljoin

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from calm_tariff.core.names import cut
from calm_tariff.formats.letters import Address, letter
from calm_tariff.services.base import mailing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.base.notices import Notice as Stored
from calm_tariff.store.base.notices import NoticeChoice

Kind = Literal[
    "invoice issued",
    "terms of use changed",
    "version ends",
    "plan changes",
    "plan moved",
    "subscription moved",
    "trial ends soon",
    "trial over",
    "limit changed",
    "request received",
    "request asked back",
    "request answered",
    "request goes on",
    "request handed over",
    "request message",
    "request granted",
    "request declined",
    "password forgotten",
    "account asked for",
    "account there already",
    "account invited",
    "account let in",
    "account turned away",
    "account closed",
    "account suspended",
    "account resumed",
    "alert reached",
    "key expires soon",
    "member invited",
    "member invited elsewhere",
    "member joined",
    "member left",
    "role changed",
    "address wanted",
    "sign-in changed",
    "question answered",
    "answer accepted",
    "post hidden",
    "colleague invited",
    "colleague joined",
    "colleague changed",
]


Group = Literal["plans", "keys", "requests", "invoices", "alerts", "members", "questions"]
# What somebody may not want by mail. The rest comes by mail in any case: it guards the account, or is asked for.
GROUPS: Mapping[Group, frozenset[Kind]] = {
    "plans": frozenset[Kind](
        {
            "terms of use changed",
            "version ends",
            "plan changes",
            "plan moved",
            "subscription moved",
            "trial ends soon",
            "trial over",
            "limit changed",
        }
    ),
    "keys": frozenset[Kind]({"key expires soon"}),
    "requests": frozenset[Kind](
        {
            "request received",
            "request asked back",
            "request answered",
            "request goes on",
            "request handed over",
            "request message",
            "request granted",
            "request declined",
        }
    ),
    "invoices": frozenset[Kind]({"invoice issued"}),
    "alerts": frozenset[Kind]({"alert reached"}),
    "members": frozenset[Kind]({"member joined", "member left", "role changed"}),
    "questions": frozenset[Kind]({"question answered", "answer accepted", "post hidden"}),
}


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
    first slash on, below where each is at home. What a confidential one says is kept nowhere once it was sent."""

    kind: Kind
    fields: Mapping[str, Any] = field(default_factory=dict)
    page: str = ""
    confidential: bool = False


def group_of(kind: Kind) -> Group | None:
    """The group that a kind of notice is of, where it is of one."""
    return next((group for group, kinds in GROUPS.items() if kind in kinds), None)


def notify(session: Session, ctx: Context, audience: Iterable[Recipient], notice: Notice) -> None:
    """Tell everybody of an audience: by mail as well, but for those who do not want that of such notices. Where `ctx`
    holds it back, nobody hears of it until then."""
    provider = provider_of(session)
    office, foot = provider.name, f"{provider.name}\n{provider.address}" if provider.address else ""
    everybody = list(audience)
    quiet = _not_by_mail(session, everybody, group_of(notice.kind))
    for each in everybody:
        link = Address(urljoin(ctx.web_address, each.at) + notice.page)
        fields = {"office": office, "link": link, **notice.fields, "name": each.name}
        said = letter(notice.kind.replace(" ", "_"), fields, foot)
        whose = each.whose
        if whose not in quiet:
            mailing.write(session, ctx, each.email, said, confidential=notice.confidential, page=notice.page)
        if whose[1] is not None and not notice.confidential:
            session.add(
                Stored(
                    audience=whose[0],
                    audience_id=whose[1],
                    kind=notice.kind,
                    subject=cut(said.subject),
                    text=said.text,
                    link=cut(notice.page),
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


def _not_by_mail(session: Session, everybody: list[Recipient], group: Group | None) -> set[tuple[str, int | None]]:
    if group is None:
        return set()
    known = {each.whose[1] for each in everybody} - {None}
    query = select(NoticeChoice.audience, NoticeChoice.audience_id).where(
        NoticeChoice.group == group, NoticeChoice.by_mail.is_(False), NoticeChoice.audience_id.in_(known)
    )
    return {(audience, identifier) for audience, identifier in session.execute(query)}
