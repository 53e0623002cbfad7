"""The handoff: which products are billed outside, how consumers and plans are mapped, what was handed on, and what
whoever bills outside says."""

from __future__ import annotations

from datetime import date
from functools import partial
from typing import Annotated

from fastapi import APIRouter, Depends, Request
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.errors import NotSignedIn
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import EditionIfSaid
from calm_tariff.edge.bodies import WholeBody
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.base.context import ROLES
from calm_tariff.services.base.outside_billing import KnownOutside, OutsideBilling
from calm_tariff.services.settle.handoff import (
    handed,
    handing_on,
    hearing,
    mapped,
    mapping,
    products,
    showing,
    sums,
)
from calm_tariff.services.settle.handoff.handed import HandedBatchView, HandedEventView, HandedState
from calm_tariff.services.settle.handoff.mapped import MappedConsumer, MappedPlan, MappedSubscription
from calm_tariff.services.settle.handoff.products import OutsideProductView
from calm_tariff.services.settle.handoff.showing import HandoffView, OutsideWordView
from calm_tariff.services.settle.handoff.sums import HandedSumsRow
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["settle"], route_class=Again)


def _billing(request: Request) -> OutsideBilling | None:
    billing: OutsideBilling | None = request.app.state.outside_billing
    return billing


Billing = Annotated[OutsideBilling | None, Depends(_billing)]


class BilledOutsideIn(BaseModel):
    """The first day of the month from which a product is billed outside."""

    since: date


class BilledHereIn(BaseModel):
    """The first day of the month from which a product is billed here again."""

    until: date


class CustomerIn(BaseModel):
    """Which customer a consumer is outside; empty for none."""

    customer: str = Field(max_length=200)


class OutsidePriceIn(BaseModel):
    """Which price there is outside; empty for none."""

    price: str = Field(max_length=200)


class KnownOutsideView(BaseModel):
    """The customers and prices that there are outside, where anybody is connected who could be `asked`."""

    asked: bool
    customers: list[KnownOutside]
    prices: list[KnownOutside]


class HandedAgain(BaseModel):
    """How many events are handed on again."""

    events: int


@router.get("/handoff")
def read_handoff(ctx: Asking, billing: Billing) -> HandoffView:
    """What is billed outside, what is not mapped, how many events wait, were accepted or refused."""
    return showing.handoff(ctx, connected=billing is not None)


@router.get("/handoff/outside")
def read_outside(ctx: Asking, billing: Billing) -> KnownOutsideView:
    """The customers and prices that there are outside, asked now."""
    ctx.actor.must_be(*ROLES)
    if billing is None:
        return KnownOutsideView(asked=False, customers=[], prices=[])
    return KnownOutsideView(asked=True, customers=list(billing.customers()), prices=list(billing.prices()))


@router.post("/products/{product_id}/outside-billing", status_code=201)
def bill_outside(ctx: Asking, product_id: int, typed: BilledOutsideIn) -> OutsideProductView:
    """Have a product billed outside from a month on."""
    return products.begin(ctx, product_id, typed.since)


@router.post("/products/{product_id}/outside-billing/end")
def bill_here_again(ctx: Asking, product_id: int, typed: BilledHereIn) -> OutsideProductView:
    """Have a product billed here again from a month on that has not begun."""
    return products.end(ctx, product_id, typed.until)


@router.get("/handoff/consumers")
def list_mapped_consumers(ctx: Asking, asked: Paged) -> Page[MappedConsumer]:
    """Consumers with subscriptions that are billed outside. Orders: unmapped, consumer, waiting."""
    return mapped.consumers(ctx, asked)


@router.get("/handoff/consumers.csv", response_class=Response)
def export_mapped_consumers(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("outside-customers", MappedConsumer, all_of(partial(mapped.consumers, ctx), asked))


@router.put("/handoff/consumers/{consumer_id}", status_code=204)
def map_consumer(ctx: Asking, consumer_id: int, typed: CustomerIn, edition: EditionIfSaid = None) -> None:
    """Say which customer a consumer is outside. What waits for it is handed on."""
    mapping.set_customer(ctx, consumer_id, typed.customer, edition)


@router.get("/handoff/plans")
def list_mapped_plans(ctx: Asking, asked: Paged) -> Page[MappedPlan]:
    """Plans whose subscriptions are billed outside. Orders: unmapped, plan."""
    return mapped.plans(ctx, asked)


@router.get("/handoff/plans.csv", response_class=Response)
def export_mapped_plans(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("outside-prices", MappedPlan, all_of(partial(mapped.plans, ctx), asked))


@router.put("/handoff/plans/{plan_id}", status_code=204)
def map_plan(ctx: Asking, plan_id: int, typed: OutsidePriceIn, edition: EditionIfSaid = None) -> None:
    """Say which price subscriptions to a plan have outside."""
    mapping.set_plan_price(ctx, plan_id, typed.price, edition)


@router.get("/handoff/subscriptions")
def list_mapped_subscriptions(ctx: Asking, asked: Paged) -> Page[MappedSubscription]:
    """Subscriptions that are billed outside. Orders: own_price, consumer."""
    return mapped.subscriptions(ctx, asked)


@router.get("/handoff/subscriptions.csv", response_class=Response)
def export_mapped_subscriptions(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(mapped.subscriptions, ctx), asked)
    return as_csv("outside-subscriptions", MappedSubscription, rows)


@router.put("/handoff/subscriptions/{subscription_id}", status_code=204)
def map_subscription(ctx: Asking, subscription_id: int, typed: OutsidePriceIn, edition: EditionIfSaid = None) -> None:
    """Say which price one subscription has outside, whatever its plan."""
    mapping.set_subscription_price(ctx, subscription_id, typed.price, edition)


@router.get("/handoff/batches")
def list_batches(ctx: Asking, asked: Paged) -> Page[HandedBatchView]:
    """What was sent, batch by batch. Orders: newest, oldest."""
    return handed.batches(ctx, asked)


@router.get("/handoff/batches.csv", response_class=Response)
def export_batches(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    rows = all_of(partial(handed.batches, ctx), asked)
    return as_csv("handed-batches", HandedBatchView, rows, left_out=("tries",))


@router.get("/handoff/batches/{batch_id}")
def read_batch(ctx: Asking, batch_id: int) -> HandedBatchView:
    """A batch with the tries to hand it on."""
    return handed.one_batch(ctx, batch_id)


@router.post("/handoff/batches/{batch_id}/again", status_code=202)
def send_batch_again(ctx: Asking, batch_id: int) -> HandedBatchView:
    """Send what was accepted of a batch once more as it was, for an outside that has lost it."""
    handing_on.resend(ctx, batch_id)
    return handed.one_batch(ctx, batch_id)


@router.get("/handoff/events")
def list_events(
    ctx: Asking, asked: Paged, state: HandedState | None = None, batch: int | None = None
) -> Page[HandedEventView]:
    """What is told of each hour. Orders: newest, oldest, hour."""
    return handed.events(ctx, asked, state, batch)


@router.get("/handoff/events.csv", response_class=Response)
def export_events(ctx: Asking, asked: Paged, state: HandedState | None = None, batch: int | None = None) -> Response:
    """The same as CSV."""
    rows = all_of(partial(handed.events, ctx, state=state, batch_id=batch), asked)
    return as_csv("handed-usage", HandedEventView, rows)


@router.post("/handoff/events/again", status_code=202)
def hand_all_on_again(ctx: Asking) -> HandedAgain:
    """Hand everything on again that was refused, as it is mapped now."""
    return HandedAgain(events=handing_on.retry_all(ctx))


@router.post("/handoff/events/{handed_id}/again", status_code=202)
def hand_on_again(ctx: Asking, handed_id: int) -> HandedAgain:
    """Hand one event on again that was refused, as it is mapped now."""
    handing_on.retry(ctx, handed_id)
    return HandedAgain(events=1)


@router.get("/handoff/{start}/sums")
def list_handed_sums(
    ctx: Asking, start: date, asked: Paged, billing: Billing, ask: bool = False
) -> Page[HandedSumsRow]:
    """A month's sums by subscription and meter: recorded, accepted, waiting; with `ask`, what the outside has, asked
    now. Orders: differing, consumer."""
    return sums.of_month(ctx, start, asked, sums.connected(billing) if ask else None)


@router.get("/handoff/{start}/sums.csv", response_class=Response)
def export_handed_sums(ctx: Asking, start: date, asked: Paged, billing: Billing, ask: bool = False) -> Response:
    """The same as CSV."""
    of_month = partial(sums.of_month, ctx, start, billing=sums.connected(billing) if ask else None)
    return as_csv(f"handed-{start:%Y-%m}", HandedSumsRow, all_of(of_month, asked))


@router.get("/handoff/words")
def list_words(ctx: Asking, asked: Paged) -> Page[OutsideWordView]:
    """What the outside said by itself, and what was done about it. Orders: newest, oldest."""
    return showing.words(ctx, asked)


@router.get("/handoff/words.csv", response_class=Response)
def export_words(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("outside-words", OutsideWordView, all_of(partial(showing.words, ctx), asked))


@router.post("/outside-billing/events", status_code=204)
def take_word(request: Request, body: WholeBody, billing: Billing) -> None:
    """What whoever bills outside says has become of a customer: a webhook that it has signed (Standard Webhooks), taken
    once. `customer.changed`, `customer.unpaid`, `customer.paid` or `customer.ended`."""
    if billing is None:
        raise NotSignedIn("nobody who bills outside is connected here")
    hearing.take(request.app.state.ctx, billing, body, request.headers)
