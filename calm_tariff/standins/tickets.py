"""A ticket desk: an outside system in which somebody decides on requests."""

from __future__ import annotations

import html
from dataclasses import dataclass
from typing import Any

from fastapi import APIRouter, Form, HTTPException
from fastapi.responses import HTMLResponse, RedirectResponse
from pydantic import BaseModel


class TicketIn(BaseModel):
    """A ticket to open. The same reference again is the same ticket."""

    reference: str
    title: str
    text: str = ""


@dataclass(slots=True)
class Ticket:
    """A ticket. States: open, granted, declined."""

    number: int
    reference: str
    title: str
    text: str
    state: str = "open"
    note: str = ""


def router() -> APIRouter:
    """The desk, with a memory of its own."""
    made = APIRouter()
    tickets: dict[int, Ticket] = {}

    @made.post("/tickets")
    async def open_ticket(wanted: TicketIn) -> Any:
        known = next((t for t in tickets.values() if t.reference == wanted.reference), None)
        if known is None:
            number = 1000 + len(tickets)
            known = tickets[number] = Ticket(number, wanted.reference, wanted.title, wanted.text)
        return known

    @made.get("/tickets/{number}")
    async def one(number: int) -> Any:
        if number not in tickets:
            # The desk forgets when it is restarted; an unknown ticket is still open.
            return Ticket(number, "", "", "")
        return tickets[number]

    @made.post("/tickets/{number}/decide", response_class=RedirectResponse, status_code=303)
    async def decide(number: int, decision: str = Form(), note: str = Form("")) -> str:
        if number not in tickets or decision not in ("granted", "declined"):
            raise HTTPException(404, "no such ticket or decision")
        tickets[number].state, tickets[number].note = decision, note
        return "/tickets"

    @made.get("/tickets", response_class=HTMLResponse)
    async def page() -> str:
        rows = "".join(_row(t) for t in reversed(tickets.values()))
        empty = "<p>No tickets yet. One arrives when somebody asks for a product that is decided here.</p>"
        return (
            "<!doctype html><html lang=en><meta charset=utf-8><title>Ticket desk</title><style>"
            "body{background:#F6F3EC;color:#1E2B2A;font:15px/1.5 system-ui,sans-serif;max-width:720px;margin:40px auto;"
            "padding:0 16px}article{border-top:1px solid #DDD6C8;padding:14px 0}h2{font-size:17px;margin:0}"
            "input{font:inherit;padding:4px 8px;width:50%}button{font:inherit;padding:4px 10px}</style>"
            f"<main><h1>Ticket desk</h1>{rows or empty}</main></html>"
        )

    return made


def _row(ticket: Ticket) -> str:
    form = (
        f"<form method=post action=/tickets/{ticket.number}/decide><label>Note "
        f"<input name=note></label> <button name=decision value=granted>Grant</button> "
        "<button name=decision value=declined>Decline</button></form>"
        if ticket.state == "open"
        else f"<p>{ticket.state}{': ' + html.escape(ticket.note) if ticket.note else ''}</p>"
    )
    title, text = html.escape(ticket.title), html.escape(ticket.text)
    return f"<article><h2>{ticket.number}: {title}</h2><p>{text}</p>{form}</article>"
