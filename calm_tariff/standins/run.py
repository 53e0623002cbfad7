"""Running the stand-ins."""

from __future__ import annotations

import uvicorn

from calm_tariff.standins.app import create_app
from calm_tariff.standins.mailbox import Mailbox


def serve(port: int, mail_port: int, desk_secret: str) -> None:
    """Serve HTTP and SMTP until told to stop. The ticket desk signs with its secret."""
    mailbox = Mailbox()
    controller = mailbox.listen(mail_port)
    try:
        uvicorn.run(create_app(mailbox, desk_secret), host="127.0.0.1", port=port, log_config=None, access_log=False)
    finally:
        controller.stop()
