"""Endpoints for events: where they are, what they want, what they were told and answered."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from fastapi.responses import Response
from pydantic import BaseModel, Field

from calm_tariff.console_api.base.asking import Asking
from calm_tariff.core.events import EVERYTHING
from calm_tariff.edge.again import Again
from calm_tariff.edge.asking import Edition
from calm_tariff.edge.lists import Paged, all_of, as_csv
from calm_tariff.services.house import deliveries, endpoints
from calm_tariff.services.house.deliveries import DeliveryView, NextEvent
from calm_tariff.services.house.endpoints import EndpointMade, EndpointTyped, EndpointView, EventTopic, Form
from calm_tariff.store.base.paging import Page

router = APIRouter(tags=["house"], route_class=Again)

OnlyFailed = Annotated[bool, Query(description="Only what was not taken.")]


class EndpointIn(BaseModel):
    """An endpoint as it is wanted: where, as what, and which events: types, whole topics (`key.*`) or everything
    (`*`). Without an address, it stays where it is."""

    name: str
    form: Form = "signed webhook"
    url: str | None = None
    wants: list[str] = Field(default=[EVERYTHING], max_length=200)

    def typed(self) -> EndpointTyped:
        """The same for the service."""
        return EndpointTyped(name=self.name, form=self.form, url=self.url, wants=self.wants)


class OnIn(BaseModel):
    """Whether an endpoint is told what happens."""

    on: bool


@router.get("/event-topics")
def topics(ctx: Asking) -> list[EventTopic]:
    """Every type of event, by topic."""
    return endpoints.topics(ctx)


@router.get("/endpoints")
def everything(ctx: Asking) -> list[EndpointView]:
    """All endpoints, by name."""
    return endpoints.everything(ctx)


@router.post("/endpoints", status_code=201)
def make(ctx: Asking, typed: EndpointIn) -> EndpointMade:
    """An endpoint that is told what happens from now on, with the secret that its webhooks are signed with."""
    return endpoints.make(ctx, typed.typed())


@router.get("/endpoints/{endpoint_id}")
def one(ctx: Asking, endpoint_id: int) -> EndpointView:
    """An endpoint, what waits for it and what is wrong."""
    return endpoints.one(ctx, endpoint_id)


@router.put("/endpoints/{endpoint_id}")
def change(ctx: Asking, endpoint_id: int, typed: EndpointIn, edition: Edition) -> EndpointView:
    """Another name, address or choice of events."""
    return endpoints.change(ctx, endpoint_id, typed.typed(), edition)


@router.delete("/endpoints/{endpoint_id}", status_code=204)
def take_away(ctx: Asking, endpoint_id: int) -> None:
    """Take an endpoint away, with what it was told."""
    endpoints.take_away(ctx, endpoint_id)


@router.post("/endpoints/{endpoint_id}/secret")
def new_secret(ctx: Asking, endpoint_id: int) -> EndpointMade:
    """Another secret; for a day webhooks are signed with the former one as well."""
    return endpoints.new_secret(ctx, endpoint_id)


@router.put("/endpoints/{endpoint_id}/on")
def turn(ctx: Asking, endpoint_id: int, typed: OnIn) -> EndpointView:
    """Tell an endpoint nothing for now, or go on with what has waited since."""
    return endpoints.turn(ctx, endpoint_id, typed.on)


@router.post("/endpoints/{endpoint_id}/test", status_code=204)
def test(ctx: Asking, endpoint_id: int) -> None:
    """Send it an event that goes to it alone, in its turn."""
    endpoints.test(ctx, endpoint_id)


@router.post("/endpoints/{endpoint_id}/trying")
def go_on(ctx: Asking, endpoint_id: int) -> EndpointView:
    """Have an endpoint that fails tried now."""
    return deliveries.go_on(ctx, endpoint_id)


@router.get("/endpoints/{endpoint_id}/next")
def next_of(ctx: Asking, endpoint_id: int) -> NextEvent | None:
    """The event that it is to be told of next, where one waits."""
    return deliveries.next_of(ctx, endpoint_id)


@router.post("/endpoints/{endpoint_id}/events/{event_id}/passing-over")
def pass_over(ctx: Asking, endpoint_id: int, event_id: int) -> EndpointView:
    """Leave that event out, so that it hears of those after it."""
    return deliveries.pass_over(ctx, endpoint_id, event_id)


@router.post("/endpoints/{endpoint_id}/events/{event_id}/again", status_code=204)
def send_again(ctx: Asking, endpoint_id: int, event_id: int) -> None:
    """Send it an event once more, under the id that it had."""
    deliveries.send_again(ctx, endpoint_id, event_id)


@router.get("/endpoints/{endpoint_id}/deliveries")
def told(ctx: Asking, endpoint_id: int, asked: Paged, failed: OnlyFailed = False) -> Page[DeliveryView]:
    """What it was told and answered, the latest first."""
    return deliveries.of(ctx, endpoint_id, asked, failed)


@router.get("/endpoints/{endpoint_id}/deliveries.csv", response_class=Response)
def export(ctx: Asking, endpoint_id: int, asked: Paged, failed: OnlyFailed = False) -> Response:
    """The same as CSV."""
    rows = all_of(lambda part: deliveries.of(ctx, endpoint_id, part, failed), asked)
    return as_csv("deliveries", DeliveryView, rows)
