"""Letters: written in the transaction they speak of, handed to the mail server afterwards."""

from __future__ import annotations

import smtplib
from email.message import EmailMessage
from email.utils import formataddr

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.services.context import Context, provider_of
from calm_tariff.store.record import Mail


def write(session: Session, ctx: Context, recipient: str, subject: str, body: str) -> None:
    """Put a letter into the outbox."""
    session.add(Mail(recipient=recipient, subject=subject, body=body, created_at=ctx.now))


def send_waiting(ctx: Context, host: str, port: int, most: int = 50) -> int:
    """Hand waiting letters to the mail server, oldest first; returns how many went out.

    A server that does not answer leaves them waiting (raises OSError or SMTPException); those already handed over
    stay so.
    """
    with ctx.transaction() as session:
        provider = provider_of(session)
        waiting = session.scalars(select(Mail.id).where(Mail.sent_at.is_(None)).order_by(Mail.id).limit(most)).all()
    if not waiting:
        return 0
    # Named here: left out, the library asks the name service for this machine's name, which may take long.
    with smtplib.SMTP(host, port, local_hostname="localhost", timeout=10) as server:
        for mail_id in waiting:
            with ctx.transaction() as session:
                mail = session.get_one(Mail, mail_id, with_for_update=True)
                letter = EmailMessage()
                letter["From"] = formataddr((provider.name, provider.mail_from))
                letter["To"] = mail.recipient
                letter["Subject"] = mail.subject
                letter["Message-ID"] = f"<{mail.id}@calm-tariff.example>"
                letter.set_content(mail.body)
                server.send_message(letter)
                mail.sent_at = ctx.now
    return len(waiting)
