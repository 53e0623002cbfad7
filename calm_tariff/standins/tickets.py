"""A ticket desk: an outside system in which somebody decides on requests."""

from __future__ import annotations

import hashlib
import html
import time
from dataclasses import asdict, dataclass

from fastapi import APIRouter, Depends, Form, HTTPException, Request, Response
from fastapi.responses import HTMLResponse, RedirectResponse
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import OctKey
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


def router(secret: str) -> APIRouter:
    """The desk, with a memory of its own. It answers whoever signs with the secret, and signs what it answers."""
    made = APIRouter()
    tickets: dict[int, Ticket] = {}

    async def asked_of_us(request: Request) -> str:
        """The id of a question that was signed for us."""
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        try:
            claims = jwt.decode(token, OctKey.import_key(secret), algorithms=["HS256"]).claims
        except (JoseError, ValueError):
            claims = {}
        asks = f"{request.method} {request.url.path}", hashlib.sha256(await request.body()).hexdigest()
        late = time.time() - float(claims.get("exp", 0))
        if scheme != "Bearer" or claims.get("aud") != "ticket desk" or late > 0:
            raise HTTPException(401, "not signed for this desk")
        if (claims.get("asks"), claims.get("sha256")) != asks:
            raise HTTPException(401, "signed for another question")
        return str(claims.get("jti", ""))

    def answer(ticket: Ticket, asked: str) -> Response:
        now = int(time.time())
        claims = {"iss": "ticket desk", "aud": "calm tariff", "jti": asked, "iat": now, "ticket": asdict(ticket)}
        signed = jwt.encode({"alg": "HS256"}, claims, OctKey.import_key(secret), algorithms=["HS256"])
        return Response(signed, media_type="application/jwt")

    @made.post("/tickets")
    async def open_ticket(wanted: TicketIn, asked: str = Depends(asked_of_us)) -> Response:
        known = next((t for t in tickets.values() if t.reference == wanted.reference), None)
        if known is None:
            number = 1000 + len(tickets)
            known = tickets[number] = Ticket(number, wanted.reference, wanted.title, wanted.text)
        return answer(known, asked)

    @made.get("/tickets/{number}")
    async def one(number: int, asked: str = Depends(asked_of_us)) -> Response:
        if number not in tickets:  # the desk forgets when it is restarted
            raise HTTPException(404, "no such ticket")
        return answer(tickets[number], asked)

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
