"""Whether what is not paid holds a consumer's calls up, by the house's policy."""

from __future__ import annotations

from sqlalchemy.orm import Session

from calm_tariff.core.billing import reminders
from calm_tariff.core.billing.reminders import Policy
from calm_tariff.core.periods import local_day
from calm_tariff.services.admit import payment_pauses
from calm_tariff.services.base.context import SYSTEM, Context, provider_of, zone_of
from calm_tariff.services.settle.accounts import open_items
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.provider import Provider
from calm_tariff.store.settle.money_documents import Invoice


def policy_of(provider: Provider) -> Policy:
    """What the house does about what is not paid."""
    return Policy(reminders_after_days=tuple(provider.reminders_after_days), pause_after_days=provider.pause_after_days)


def hindering(session: Session, ctx: Context, owner: int) -> list[Invoice]:
    """The open invoices of an account that are old enough to hold calls up, the first due before the others."""
    policy = policy_of(provider_of(session))
    today = local_day(ctx.now_us, zone_of(session))
    found = (i for i in open_items.invoices(session, owner) if i.due_on and reminders.to_pause(i.due_on, policy, today))
    return sorted(found, key=lambda i: (i.due_on, i.id))


def go_on_if_paid(session: Session, ctx: Context, owner: int) -> None:
    """Let calls go on that were held up, where nothing hinders them any more. Whoever calls this holds the consumer."""
    if payment_pauses.running(session, owner) is not None and not hindering(session, ctx, owner):
        payment_pauses.end(session, ctx.acting(SYSTEM), session.get_one(Consumer, owner))
