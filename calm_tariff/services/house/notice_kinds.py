"""The kinds of notices: who gets each and how, and the provider's own words for them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from jinja2 import TemplateError
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import notices as rules
from calm_tariff.core.errors import Conflict, Invalid, NotFound, Stale
from calm_tariff.core.notices import EXAMPLES, KINDS, MARKED, Kind, Words
from calm_tariff.formats.letter_words import built_in, check, fields_of
from calm_tariff.formats.letters import Address, Letter, Prose, given, letter
from calm_tariff.services.base import auditing, mailing
from calm_tariff.services.base.context import ROLES, Context, provider_of
from calm_tariff.services.base.notices import words_of
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.notices import Notice, NoticeKind
from calm_tariff.store.base.record import Mail
from calm_tariff.store.house.people import Person

CHANGERS = ("product manager", "owner")
LATELY = timedelta(days=30)
# Every notice has them.
_ALWAYS = frozenset({"name", "office", "link"})


@dataclass(frozen=True, slots=True, kw_only=True)
class NoticeKindView:
    """A kind of notice: `name` is its own in addresses, `to` who gets it, `group` what it is chosen by where people may
    not want it by mail. `own` words are the provider's; `trouble` says why they could not be filled in, where they
    could not. `letters` were written within thirty days, `failed` of them could not be sent."""

    kind: str
    name: str
    to: str
    group: str | None
    by_mail: bool
    own: bool
    trouble: str
    letters: int
    failed: int


@dataclass(frozen=True, slots=True, kw_only=True)
class NoticeWording:
    """The words of a kind of notice as they are now, and those that ship with the product; and the fields that they can
    speak of, each with what it was filled in with the last time, or something made up."""

    kind: NoticeKindView
    words: Words
    shipped: Words
    fields: dict[str, str]
    changed_by: str
    changed_at: datetime | None
    edition: int


@dataclass(frozen=True, slots=True, kw_only=True)
class NoticePreview:
    """Words filled in: with what the last notice of the kind was about (`when` it was told), or with something made
    up. `html` is a whole page."""

    subject: str
    text: str
    html: str
    when: datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class WordsTyped:
    """Words and way of a kind of notice, as somebody wants them. Without words of its own it is told in those that ship
    with the product."""

    words: Words | None
    by_mail: bool = True


def everything(ctx: Context) -> list[NoticeKindView]:
    """All kinds of notices."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        own = {each.kind: each for each in session.scalars(select(NoticeKind))}
        counted = select(Mail.kind, func.count(), func.count(Mail.failed)).where(Mail.created_at > ctx.now - LATELY)
        letters = {kind: (n, failed) for kind, n, failed in session.execute(counted.group_by(Mail.kind))}
        return [_view(kind, own.get(kind), letters.get(kind, (0, 0))) for kind in KINDS]


def one(ctx: Context, name: str) -> NoticeWording:
    """A kind of notice with its words. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    kind = _kind(name)
    with ctx.reading() as session:
        return _wording(session, kind)


def save(ctx: Context, name: str, typed: WordsTyped, edition: int) -> NoticeWording:
    """Have a kind of notice told in other words, or otherwise by mail, from the next one on. Raises `NotFound`,
    `Stale` where somebody else has changed it since `edition` (0: it was as it ships), and `Invalid`, naming the
    part and its line."""
    ctx.actor.must_be(*CHANGERS)
    kind = _kind(name)
    if typed.words is not None:
        _check(kind, typed.words)
    if not typed.by_mail and rules.group_of(kind) is None:
        raise Invalid("it guards an account, or was asked for: it comes by mail in any case", "by_mail")
    with ctx.transaction() as session:
        own = locked(session, NoticeKind, kind)
        if (own.edition if own else 0) != edition:
            now = _wording(session, kind)
            raise Stale("somebody else has changed it meanwhile; look at it again", kind, now)
        before = _said(own, kind)
        if own is None:
            own = NoticeKind(kind=kind, edition=0)
            session.add(own)
        words = typed.words
        own.subject, own.text, own.html = (words.subject, words.text, words.html or None) if words else (None,) * 3
        own.by_mail, own.trouble = typed.by_mail, ""
        own.changed_by, own.changed_at, own.edition = ctx.actor.name, ctx.now, own.edition + 1
        session.flush()
        auditing.note(session, ctx, "changed a notice", ("notice", KINDS.index(kind), kind), before, _said(own, kind))
        return _wording(session, kind)


def preview(ctx: Context, name: str, words: Words) -> NoticePreview:
    """Words as a letter in which the last notice of the kind is told, or something made up where there was none.
    Raises `NotFound`, and `Invalid`, naming the part and its line."""
    ctx.actor.must_be(*ROLES)
    kind = _kind(name)
    _check(kind, words)
    with ctx.transaction() as session:
        made, when = _letter(session, ctx, kind, words)
        return NoticePreview(subject=made.subject, text=made.body, html=made.html, when=when)


def test(ctx: Context, name: str, words: Words) -> str:
    """Send the same to oneself; returns to which address. Raises as `preview` does, `Conflict` for a script."""
    ctx.actor.must_be(*CHANGERS)
    kind = _kind(name)
    _check(kind, words)
    with ctx.transaction() as session:
        person = session.get(Person, ctx.actor.person_id) if ctx.actor.person_id is not None else None
        if person is None:
            raise Conflict("a script has no mail address; somebody who is signed in has", kind)
        made, _ = _letter(session, ctx, kind, words)
        mailing.write(session, ctx, person.email, made, mailing.About(kind="test"))
        return person.email


def _kind(name: str) -> Kind:
    kind = rules.kind_of(name)
    if kind is None:
        raise NotFound("there is no such kind of notice", name)
    return kind


def _known(kind: Kind) -> frozenset[str]:
    """The fields that a kind of notice can speak of: those that its shipped words do, and what every notice has."""
    shipped = built_in(kind.replace(" ", "_"))
    return fields_of(shipped.subject) | fields_of(shipped.text) | _ALWAYS


def _check(kind: Kind, words: Words) -> None:
    known = _known(kind)
    parts = {"subject": words.subject, "text": words.text}
    for part, source in parts.items():
        if not source.strip():
            raise Invalid("must not be empty", part)
    if words.html.strip():
        parts["html"] = words.html
    for part, source in parts.items():
        check(source, part, known)
    rules.check_link(kind, {part: fields_of(source) for part, source in parts.items()})
    try:
        letter(words, _made_up(kind))
    except (TemplateError, TypeError) as error:
        raise Invalid(f"cannot be filled in: {error}", "text") from None


def _letter(session: Session, ctx: Context, kind: Kind, words: Words) -> tuple[Letter, datetime | None]:
    provider = provider_of(session)
    foot = f"{provider.name}\n{provider.address}" if provider.address else ""
    last = _last(session, kind)
    fields = {**_made_up(kind), "office": provider.name, "link": Address(ctx.web_address)}
    when = None
    if last is not None:
        fields, when = {**fields, **given(last.fields or {})}, last.written_at
    try:
        return letter(words, fields, foot), when
    except (TemplateError, TypeError) as error:
        raise Invalid(f"cannot be filled in: {error}", "text") from None


def _last(session: Session, kind: Kind) -> Notice | None:
    """The last notice of a kind whose fields are known."""
    query = select(Notice).where(Notice.kind == kind, Notice.fields.is_not(None)).order_by(Notice.id.desc())
    return session.scalar(query.limit(1))


def _made_up(kind: Kind) -> dict[str, Any]:
    fields: dict[str, Any] = {name: EXAMPLES[name] for name in _known(kind) - {"office", "link"}}
    fields |= {name: Prose(fields[name]) for name in MARKED & fields.keys()}
    return {**fields, "office": "Exemplo Office", "link": Address("https://portal.example/")}


def _said(own: NoticeKind | None, kind: Kind) -> dict[str, Any]:
    words = words_of(own, kind)
    by_mail = own.by_mail if own is not None else True
    return {"subject": words.subject, "text": words.text, "html": words.html, "by mail": by_mail}


def _wording(session: Session, kind: Kind) -> NoticeWording:
    own = session.get(NoticeKind, kind)
    last = _last(session, kind)
    filled: Mapping[str, Any] = {**_made_up(kind), **(given(last.fields or {}) if last else {})}
    return NoticeWording(
        kind=_view(kind, own, (0, 0)),
        words=words_of(own, kind),
        shipped=built_in(kind.replace(" ", "_")),
        fields={name: _in_words(filled[name]) for name in sorted(_known(kind))},
        changed_by=own.changed_by if own else "",
        changed_at=own.changed_at if own else None,
        edition=own.edition if own else 0,
    )


def _in_words(value: Any) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "; ".join(map(str, value)) if isinstance(value, list) else str(value)


def _view(kind: Kind, own: NoticeKind | None, letters: tuple[int, int]) -> NoticeKindView:
    return NoticeKindView(
        kind=kind,
        name=kind.replace(" ", "_"),
        to=rules.TO[kind],
        group=rules.group_of(kind),
        by_mail=own.by_mail if own else True,
        own=own is not None and own.text is not None,
        trouble=own.trouble if own else "",
        letters=letters[0],
        failed=letters[1],
    )
