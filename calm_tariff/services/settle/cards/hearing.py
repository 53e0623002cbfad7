"""What the payment processor says by itself: each webhook once, in whichever order they come, and none is needed: what
is asked for is asked about until it is known.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import select

from calm_tariff.core.errors import NotFound
from calm_tariff.services.admit import cards
from calm_tariff.services.base import webhooks
from calm_tariff.services.base.context import SYSTEM, Context
from calm_tariff.services.base.processor import Answer, Happened, Processor
from calm_tariff.services.settle.cards import disputes, refunding, trying
from calm_tariff.store.settle.card_attempts import CardRefund, PaymentAttempt


def take(ctx: Context, processor: Processor, body: bytes, fields: Mapping[str, str]) -> None:
    """Take a webhook of the processor's; one that was taken before changes nothing. Raises `NotSignedIn` for what it
    did not sign or not of late, `Invalid` for what means nothing, and `NotFound` for what was not asked for here."""
    said = processor.happened(body, fields, ctx.now)
    acting = ctx.acting(SYSTEM)
    # What it says is done first: should that fail, or this process die, it is said again.
    with acting.transaction() as session:
        if webhooks.was_taken(session, said.id):
            return
    _done(acting, processor, said)
    with acting.transaction() as session:
        webhooks.take_once(session, acting, said.id)


def _done(ctx: Context, processor: Processor, said: Happened) -> None:
    if said.type == "card.kept":
        cards.given(ctx, processor, said.page)
    elif said.type in ("charge.taken", "charge.failed"):
        trying.answered(ctx, _attempt(ctx, said), _answer(said, "charge.taken"))
    elif said.type in ("refund.paid_out", "refund.failed"):
        refunding.answered(ctx, _refund(ctx, said.key), _answer(said, "refund.paid_out"))
    else:
        disputes.happened(ctx, _attempt(ctx, said), said)


def _answer(said: Happened, well: str) -> Answer:
    if said.type == well:
        return Answer(state="done", reference=said.charge)
    return Answer(state="failed", reference=said.charge, failure=said.failure)


def _attempt(ctx: Context, said: Happened) -> int:
    """The attempt that is spoken of: a charge is known by our key before we know what the processor calls it."""
    which = PaymentAttempt.key == said.key if said.key else PaymentAttempt.charge == said.charge
    with ctx.transaction() as session:
        found = session.scalar(select(PaymentAttempt.id).where(which))
    if found is None:
        raise NotFound("was not asked for here", "the charge")
    return found


def _refund(ctx: Context, key: str) -> int:
    with ctx.transaction() as session:
        found = session.scalar(select(CardRefund.id).where(CardRefund.key == key))
    if found is None:
        raise NotFound("was not asked for here", "the refund")
    return found
