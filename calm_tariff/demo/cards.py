"""The consumers of the demo that pay by card: one whose card always pays, one whose card has no cover for two tries,
and one whose card never has any."""

from __future__ import annotations

from collections.abc import Mapping

import httpx
from sqlalchemy import select

from calm_tariff.core.errors import Invalid
from calm_tariff.demo.owners import owner_of
from calm_tariff.services.admit import cards
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.processor import Processor
from calm_tariff.services.settle.cards import planning, trying
from calm_tariff.store.settle.card_attempts import PaymentAttempt

PAYS, NO_COVER_TWICE, NO_COVER = "9700 0000 0000 1002", "9700 0000 0000 3008", "9700 0000 0000 2000"
# Who gives which card before the month before the last is charged, and before the last.
GIVEN: Mapping[str, str] = {"Driftline Apps": PAYS, "Anchorhold Storage": NO_COVER_TWICE}
GIVEN_LATELY: Mapping[str, str] = {"Breakwater Builders": NO_COVER}


def give(ctx: Context, processor: Processor, given: Mapping[str, str]) -> None:
    """Owners of consumers give cards at the payment processor's page, as they would in a browser."""
    for consumer, number in given.items():
        owner = owner_of(ctx, consumer)
        page = cards.begin(owner, processor).address
        typed = {"number": number, "ends": "08/31", "code": "123"}
        answer = httpx.post(page, data=typed, timeout=30, trust_env=False)
        if answer.status_code != 303:
            raise Invalid(f"the payment processor's page answered {answer.status_code}", consumer)
        cards.finish(owner, processor)


def collect(ctx: Context, processor: Processor, consumer_id: int) -> bool:
    """Have today's attempts of a consumer's account planned and made; whether there were some. A worker that runs
    beside it sees them when they are over."""
    with ctx.transaction() as session:
        here = ctx.joining(session)
        if not planning.plan(here, consumer_id):
            return False
        going = select(PaymentAttempt.id).where(PaymentAttempt.going.is_not(None)).order_by(PaymentAttempt.id)
        for each in session.scalars(going).all():
            trying.make(here, processor, each)
        return True
