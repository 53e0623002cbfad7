"""Letters: written in the transaction they speak of, handed to the mail server by a job of its own each."""

from __future__ import annotations

import logging
import smtplib
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from email.message import EmailMessage
from email.utils import formataddr

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from calm_tariff.core.names import cut
from calm_tariff.formats.letters import Letter
from calm_tariff.services.base import auditing, jobs
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.base.locking import locked
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.base.record import Mail

log = logging.getLogger("calm_tariff.mail")
SEND = "send a letter"
SET_ASIDE = "could not send a letter"
# Replies from here on are for good (RFC 5321, 4.2.1); those before may change.
_FOR_GOOD = 500
# So long a letter waits for what it encloses; then it goes without, and its link leads there.
WAITS_FOR_FILE, LOOKS_AGAIN = timedelta(minutes=15), timedelta(seconds=2)


@dataclass(frozen=True, slots=True, kw_only=True)
class About:
    """What a letter is about: its kind of notice, and the page of what it speaks of. What a `confidential` one says is
    not kept once it was handed over, and shown to nobody before. It `encloses` a document of money, by its id."""

    kind: str = ""
    page: str = ""
    confidential: bool = False
    encloses: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Enclosed:
    """A file that goes with a letter."""

    name: str
    media_type: str
    content: bytes


# What goes with a letter, by what that encloses; None while it is being made.
Enclosing = Callable[[int], Enclosed | None]


def write(session: Session, ctx: Context, recipient: str, letter: Letter, about: About) -> None:
    """Write a letter, and ask for it to be sent, once nothing holds it back."""
    held = ctx.holding
    made = Mail(
        recipient=recipient,
        subject=cut(letter.subject),
        body=letter.body,
        html=letter.html,
        created_at=ctx.now,
        kind=about.kind,
        confidential=about.confidential,
        cause=held.cause if held else None,
        page=cut(about.page),
        encloses=about.encloses,
    )
    session.add(made)
    session.flush()
    send_on(session, ctx, made, held.until if held else None)


def send_on(session: Session, ctx: Context, mail: Mail, run_at: datetime | None = None) -> None:
    """Ask for a letter to be sent; now, unless `run_at` says when."""
    what = f"“{mail.subject}” to {mail.recipient}"
    jobs.write(session, ctx, SEND, what, {"letter": mail.id}, subject=job_of(mail.id), run_at=run_at)


def tell_now(session: Session, ctx: Context, cause: str) -> None:
    """Send the letters that were held back because of something."""
    for letter in session.scalars(select(Mail.id).where(Mail.cause == cause, Mail.sent_at.is_(None)).order_by(Mail.id)):
        jobs.bring_forward(session, ctx, SEND, job_of(letter))


def forget(session: Session, cause: str) -> None:
    """Never send the letters that are still held back because of something."""
    session.execute(delete(Mail).where(Mail.cause == cause, Mail.sent_at.is_(None), Mail.failed.is_(None)))


def job_of(letter_id: int) -> str:
    """What the job that sends a letter is known by."""
    return str(letter_id)


def send(ctx: Context, letter_id: int, host: str, port: int, enclosing: Enclosing = lambda _: None) -> datetime | None:
    """Hand a letter to the mail server, with what it encloses; when to try again, where that is still being made. One
    that is sent or set aside already stays as it is.

    Raises OSError or SMTPException where the server does not answer, or says that it may take the letter later. A
    letter that it refuses, or that cannot be written, is set aside with the reason.
    """
    with ctx.transaction() as session:
        mail = locked(session, Mail, letter_id)
        if mail is None or mail.sent_at is not None or mail.failed is not None:
            return None
        enclosed = enclosing(mail.encloses) if mail.encloses is not None else None
        if mail.encloses is not None and enclosed is None and ctx.now < mail.created_at + WAITS_FOR_FILE:
            return ctx.now + LOOKS_AGAIN
        try:
            message = _letter(provider_of(session), mail, enclosed)
            # Named here: left out, the library asks the name service for this machine's name, which may take long.
            with smtplib.SMTP(host, port, local_hostname="localhost", timeout=10) as server:
                server.send_message(message)
        except smtplib.SMTPRecipientsRefused as error:
            if not all(code >= _FOR_GOOD for code, _ in error.recipients.values()):
                raise
            _set_aside(session, ctx, mail, str(error))
        except smtplib.SMTPDataError as error:
            if error.smtp_code < _FOR_GOOD:
                raise
            _set_aside(session, ctx, mail, str(error))
        except (smtplib.SMTPNotSupportedError, ValueError) as error:  # it cannot be written as a letter
            _set_aside(session, ctx, mail, f"{error.__class__.__name__}: {error}")
        else:
            mail.sent_at = ctx.now
        if mail.confidential:
            mail.body, mail.html = "", None
        return None


def _set_aside(session: Session, ctx: Context, mail: Mail, why: str) -> None:
    mail.failed = why
    log.error("letter %d cannot be sent and is set aside: %s", mail.id, why)
    auditing.note(session, ctx, SET_ASIDE, ("letter", mail.id, f"“{mail.subject}” to {mail.recipient}"), why=why)


def set_aside_since(session: Session, since: datetime) -> int:
    """How many letters could not be sent since then."""
    query = select(func.count()).where(Mail.failed.is_not(None), Mail.created_at >= since)
    return session.scalar(query) or 0


def _letter(provider: Provider, mail: Mail, enclosed: Enclosed | None = None) -> EmailMessage:
    """A letter as it is handed over. Raises `ValueError` where a field holds what no field may."""
    letter = EmailMessage()
    letter["From"] = formataddr((provider.name, provider.mail_from))
    letter["To"] = mail.recipient
    letter["Subject"] = mail.subject
    letter["Message-ID"] = f"<{mail.id}@calm-tariff.example>"
    letter.set_content(mail.body)
    if mail.html:
        letter.add_alternative(mail.html, subtype="html")
    if enclosed is not None:
        kind, _, of_kind = enclosed.media_type.partition("/")
        letter.add_attachment(enclosed.content, maintype=kind, subtype=of_kind, filename=enclosed.name)
    return letter
