"""What Beatriz put right of what was charged: a line taken off a draft, and a credit note for an issued invoice."""

from __future__ import annotations

from datetime import date, timedelta
from decimal import Decimal

from sqlalchemy import select

from calm_tariff.core.billing.documents.adjustments import Wanted as Adjusting
from calm_tariff.core.billing.documents.credit_notes import Taken
from calm_tariff.core.periods import local_day
from calm_tariff.services.base.context import Actor, Context, zone_of
from calm_tariff.services.settle import striking
from calm_tariff.services.settle.documents import adjustments, credit_notes, invoices
from calm_tariff.services.settle.documents.credit_notes import Wanted as Crediting
from calm_tariff.services.settle.periods import reviewing
from calm_tariff.services.settle.striking import Wanted
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.settle.money_documents import Invoice

BERTHS = Adjusting(
    words="Berths of Pellow harbour were not there, 4 to 11",
    amount=Decimal("-12.00"),
    treatment="standard",
    reason="The sensor at Pellow was out for a week; agreed with Quayside Freight on the phone.",
)
TIDES = "Tide tables of Pellow were an hour off on two days. We take part of the month's fee back."

LOOPED = "Our answers said that each was stale at once, and the app asked again; agreed with Marta."


def adjust(ctx: Context, start: date) -> None:
    """Take something off the draft of Quayside Freight."""
    invoice = _of(ctx, "Quayside Freight", start)
    if invoice is not None:
        adjustments.add(ctx, invoice, BERTHS)


def hold_back(ctx: Context, start: date) -> None:
    """Hold the draft of Stonechat Surf back, which asks about it."""
    invoice = _of(ctx, "Stonechat Surf", start)
    if invoice is not None:
        reviewing.hold_back(ctx, invoice, "It asks whether its rehearsal of the 19th was meant to count.")


def credit(ctx: Context, start: date) -> None:
    """Take part of Wrackline Research's fee back, where it was charged one."""
    invoice = _of(ctx, "Wrackline Research", start)
    if invoice is None:
        return
    fees = [x for x in invoices.one(ctx, invoice).lines if x.kind == "fee" and x.amount >= 5]
    if fees:
        taken = Taken(line=fees[0].id, amount=Decimal("5.00"))
        credit_notes.issue(ctx, invoice, Crediting(reason=TIDES, lines=(taken,)))


def strike_out(ctx: Context) -> None:
    """Strike out what Driftline Apps' phones asked for the day before in a loop that was our fault."""
    finance = ctx.acting(Actor("Beatriz", frozenset({"finance"})))
    with ctx.transaction() as session:
        consumer = session.scalar(select(Consumer.id).where(Consumer.name == "Driftline Apps"))
        day = local_day(ctx.now_us, zone_of(session)) - timedelta(days=1)
    wanted = Wanted(filter=CallFilter(consumer_id=consumer), first_day=day, last_day=day)
    shown = striking.preview(finance, wanted).calls
    if shown:
        striking.strike_out(finance, wanted, LOOPED, shown)


def _of(ctx: Context, consumer: str, start: date) -> int | None:
    query = select(Invoice.id).join(Consumer, Consumer.id == Invoice.consumer_id)
    with ctx.transaction() as session:
        return session.scalar(query.where(Consumer.name == consumer, Invoice.period_start == start))
