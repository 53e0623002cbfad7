"""A mail server that keeps what it gets in memory."""

from __future__ import annotations

from datetime import UTC, datetime
from email import message_from_bytes, policy
from typing import Any

from aiosmtpd.controller import Controller

KEPT = 2000


class Mailbox:
    """Letters as they arrived, newest first when read. It takes none for those in `refuses`."""

    def __init__(self) -> None:
        self._letters: list[dict[str, str]] = []
        self.refuses: set[str] = set()

    async def handle_RCPT(  # noqa: N802 (aiosmtpd's name)
        self, server: Any, session: Any, envelope: Any, address: str, options: list[str]
    ) -> str:
        """Take in whom a letter is for."""
        if address in self.refuses:
            return "552 the box is full"
        envelope.rcpt_tos.append(address)
        return "250 go on"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802 (aiosmtpd's name)
        """Take in one letter."""
        letter = message_from_bytes(envelope.content, policy=policy.default)
        body = letter.get_body(("plain",))
        self._letters.append(
            {
                "to": ", ".join(envelope.rcpt_tos),
                "from": str(letter["From"]),
                "subject": str(letter["Subject"]),
                "at": datetime.now(UTC).isoformat(timespec="seconds"),
                "body": body.get_content() if body else "",
            }
        )
        del self._letters[:-KEPT]
        return "250 kept"

    def letters(self, to: str | None = None) -> list[dict[str, str]]:
        """Letters, newest first; only those to one address where it is given."""
        return [m for m in reversed(self._letters) if to is None or to in m["to"]]

    def listen(self, port: int) -> Controller:
        """Start to take letters on a loopback port."""
        controller = Controller(self, hostname="127.0.0.1", port=port)
        controller.start()
        return controller
