"""Billing that is done outside, at /billing: it takes hourly usage that is signed, knows customers and prices, and says
by signed webhooks what becomes of a customer (Standard Webhooks).

How it behaves is set at /billing-mood: away, slow, losing answers, saying everything twice. It keeps what it knows
over a restart, in a file.
"""

from __future__ import annotations

import html
from decimal import Decimal
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Header, HTTPException, Query, Request
from fastapi.responses import HTMLResponse, RedirectResponse

from calm_tariff.standins.asked import known
from calm_tariff.standins.look import shown
from calm_tariff.standins.money.billing_there import BillingMood, BillingThere

_Text = Annotated[str, Form()]
WORDS = {
    "unpaid": "It has not paid",
    "paid": "It has paid",
    "renumbered": "It has another number",
    "ended": "It has ended",
}


def router(of: BillingThere) -> APIRouter:
    """Its pages, and what it is asked and told."""
    made = APIRouter()

    asked = [known(of, "it")]

    @made.get("/billing/customers", dependencies=asked)
    async def customers() -> Any:
        return [{"id": key, "name": name} for key, name in of.all.customers.items()]

    @made.get("/billing/prices", dependencies=asked)
    async def prices() -> Any:
        return [{"id": key, "name": name} for key, name in of.all.prices.items()]

    @made.get("/billing/sums", dependencies=asked)
    async def sums(since: Annotated[str, Query()], until: Annotated[str, Query()]) -> Any:
        return of.sums(since, until)

    @made.post("/billing/usage", dependencies=asked)
    async def take(request: Request, idempotency_key: Annotated[str, Header()]) -> Any:
        body = await request.body()
        if not of.is_signed(body, request.headers):
            raise HTTPException(401, "it is not signed")
        events = await request.json()
        if of.mood.at_most and len(events) > of.mood.at_most:
            raise HTTPException(413, "too many events")
        answer = of.take(idempotency_key, events)
        if of.mood.loses:
            raise HTTPException(504, "the answer is lost on its way")
        return answer

    @made.put("/billing-mood")
    async def set_mood(wanted: BillingMood) -> BillingMood:
        of.mood = wanted
        return wanted

    @made.get("/billing.json")
    async def as_json() -> Any:
        events = [[each.id, each.customer, each.price, each.units] for each in of.all.events.values()]
        return {"events": events, "batches": len(of.all.answers), "saying": len(of.all.saying)}

    @made.post("/billing/customers", response_class=RedirectResponse, status_code=303)
    async def add(customer: _Text, name: _Text) -> str:
        of.all.customers[customer] = name
        of.keep()
        return "/billing"

    @made.post("/billing/customers/{customer}", response_class=RedirectResponse, status_code=303)
    async def say(customer: str, word: Annotated[Literal["unpaid", "paid", "renumbered", "ended"], Form()]) -> str:
        if customer not in of.all.customers:
            raise HTTPException(404, "there is no such customer")
        if word == "renumbered":
            to = f"{customer}-B"
            of.all.customers[to] = of.all.customers.pop(customer)
            of.say("customer.changed", customer, to=to, name=of.all.customers[to])
        elif word == "unpaid":
            of.all.bills += 1
            of.all.standing[customer] = "unpaid"
            of.say("customer.unpaid", customer, about=f"HB-{of.all.bills}")
        else:
            of.all.standing[customer] = word
            of.say(f"customer.{word}", customer)
        return "/billing"

    @made.get("/billing", response_class=HTMLResponse)
    async def page() -> str:
        return shown("Billing outside", "".join(_customer(of, key) for key in of.all.customers))

    return made


def _customer(of: BillingThere, customer: str) -> str:
    units: dict[tuple[str, str], Decimal] = {}
    for each in of.all.events.values():
        if each.customer == customer:
            key = each.price, each.meter
            units[key] = units.get(key, Decimal(0)) + Decimal(each.units)
    rows = "".join(f"<li>{html.escape(p)}, {html.escape(m)}: {n.normalize():f}</li>" for (p, m), n in units.items())
    buttons = "".join(f"<button name=word value={word}>{says}</button> " for word, says in WORDS.items())
    standing = of.all.standing.get(customer, "")
    return (
        f"<article><h2>{html.escape(customer)} {html.escape(of.all.customers[customer])}</h2>"
        f"<p>{html.escape(standing)}</p><ul>{rows or '<li>no usage yet</li>'}</ul>"
        f"<form method=post action='/billing/customers/{html.escape(customer)}'>{buttons}</form></article>"
    )
