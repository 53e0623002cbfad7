"""Consumers, and everything of one on one page."""

from __future__ import annotations

from fastapi import APIRouter
from fastapi.responses import Response

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.edge.again import Again
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.observe import consumers
from calm_tariff.services.observe.consumers import ConsumerLine, ConsumerView
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["admit"], route_class=Again)


@router.get("/consumers")
def list_consumers(ctx: Asking, asked: Paged) -> Page[ConsumerLine]:
    """Consumers. Orders: name, since, served, refused."""
    return consumers.listed(ctx, asked)


@router.get("/consumers.csv", response_class=Response)
def export_consumers(ctx: Asking, asked: Paged) -> Response:
    """The same as CSV."""
    return as_csv("consumers", ConsumerLine, all_of(lambda part: consumers.listed(ctx, part), asked))


@router.get("/consumers/{consumer_id}")
def read_consumer(ctx: Asking, consumer_id: int) -> ConsumerView:
    """One consumer with everything of it."""
    return consumers.one(ctx, consumer_id)
