"""Running the stand-ins."""

from __future__ import annotations

from random import Random

import uvicorn

from calm_tariff.edge.outside_billing import EVENTS as WORDS
from calm_tariff.edge.processor import EVENTS
from calm_tariff.settings import Settings
from calm_tariff.standins.app import create_app
from calm_tariff.standins.callers import keep_calling
from calm_tariff.standins.mailbox import Mailbox
from calm_tariff.standins.money.billing_there import BillingThere
from calm_tariff.standins.money.processing import Processing
from calm_tariff.standins.tickets import Desk


def serve(settings: Settings) -> None:
    """Serve HTTP and SMTP until told to stop. The ticket desk, the payment processor and billing outside sign with
    their secrets; in a demo, its applications keep calling through the gateway."""
    mailbox = Mailbox()
    controller = mailbox.listen(settings.mail_port)
    calling = keep_calling(settings.callers, settings.gateway_address, Random()) if settings.demo else None
    desk = Desk(settings.ticket_desk_secret, settings.var / "tickets.json")
    kept, events_to = settings.var / "processor.json", f"{settings.address}{EVENTS}"
    processing = Processing(settings.payment_processor_secret, kept, events_to)
    billing = BillingThere(settings.outside_billing_secret, settings.var / "billing.json", f"{settings.address}{WORDS}")
    app = create_app(mailbox, desk, processing, billing, calling)
    try:
        uvicorn.run(app, host="127.0.0.1", port=settings.standins_port, log_config=None, access_log=False)
    finally:
        controller.stop()
