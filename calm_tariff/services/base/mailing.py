"""Letters: written in the transaction they speak of, handed to the mail server afterwards."""

from __future__ import annotations

import logging
import smtplib
from datetime import datetime
from email.message import EmailMessage
from email.utils import formataddr

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core.names import cut
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import Context, provider_of
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.base.record import Mail

log = logging.getLogger("calm_tariff.mail")
SET_ASIDE = "could not send a letter"


def write(session: Session, ctx: Context, recipient: str, subject: str, body: str, confidential: bool = False) -> None:
    """Put a letter into the outbox. What a confidential one says is not kept once it was handed over."""
    made = Mail(recipient=recipient, subject=cut(subject), body=body, created_at=ctx.now, confidential=confidential)
    session.add(made)


def send_waiting(ctx: Context, host: str, port: int, most: int = 50) -> int:
    """Hand waiting letters to the mail server, oldest first; returns how many went out.

    A server that does not answer leaves them waiting (raises OSError or SMTPException); those already handed over
    stay so. A letter that this server refuses, or that cannot be written, is set aside with the reason and holds up
    none.
    """
    with ctx.transaction() as session:
        provider = provider_of(session)
        waiting = session.scalars(
            select(Mail.id).where(Mail.sent_at.is_(None), Mail.failed.is_(None)).order_by(Mail.id).limit(most)
        ).all()
    if not waiting:
        return 0
    sent = 0
    # Named here: left out, the library asks the name service for this machine's name, which may take long.
    with smtplib.SMTP(host, port, local_hostname="localhost", timeout=10) as server:
        for mail_id in waiting:
            with ctx.transaction() as session:
                mail = session.get_one(Mail, mail_id, with_for_update=True)
                try:
                    server.send_message(_letter(provider, mail))
                except (smtplib.SMTPRecipientsRefused, smtplib.SMTPDataError, smtplib.SMTPNotSupportedError) as error:
                    mail.failed = str(error)
                except (ValueError, UnicodeError) as error:  # it cannot be written as a letter
                    mail.failed = f"{error.__class__.__name__}: {error}"
                else:
                    mail.sent_at = ctx.now
                    sent += 1
                if mail.confidential:
                    mail.body = ""
                if mail.failed:
                    log.error("letter %d cannot be sent and is set aside: %s", mail.id, mail.failed)
                    subject = ("letter", mail.id, f"“{mail.subject}” to {mail.recipient}")
                    auditing.note(session, ctx, SET_ASIDE, subject, why=mail.failed)
    return sent


def set_aside_since(session: Session, since: datetime) -> int:
    """How many letters could not be sent since then."""
    query = select(func.count()).where(Mail.failed.is_not(None), Mail.created_at >= since)
    return session.scalar(query) or 0


def _letter(provider: Provider, mail: Mail) -> EmailMessage:
    """A letter as it is handed over. Raises `ValueError` where a field holds what no field may."""
    letter = EmailMessage()
    letter["From"] = formataddr((provider.name, provider.mail_from))
    letter["To"] = mail.recipient
    letter["Subject"] = mail.subject
    letter["Message-ID"] = f"<{mail.id}@calm-tariff.example>"
    letter.set_content(mail.body)
    return letter
