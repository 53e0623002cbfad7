"""A ticket desk: an outside system in which somebody decides on requests. It keeps its tickets over a restart."""

from __future__ import annotations

import hashlib
import html
import json
import secrets
import time
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from fastapi import APIRouter, Depends, Form, HTTPException, Request, Response
from fastapi.responses import HTMLResponse, RedirectResponse
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import OctKey
from pydantic import BaseModel
from standardwebhooks import WebhookVerificationError

from calm_tariff.standins.telling import Event, Teller


class TicketIn(BaseModel):
    """A ticket to open. The same reference again is the same ticket."""

    reference: str
    title: str
    text: str = ""


class Mood(BaseModel):
    """How the desk behaves: away, it answers 503 to all that the product asks and tells it."""

    away: bool = False


@dataclass(slots=True)
class Comment:
    """Something said about a ticket, by whom, and whether the consumer sees it."""

    by: str
    text: str
    public: bool = True


@dataclass(slots=True)
class Ticket:
    """A ticket. States: open, granted, declined, taken back; `stands` is what the desk says of it meanwhile. `facts`
    are what came with it, `answer_to` where its call-backs go."""

    number: int
    reference: str
    title: str
    text: str
    state: str = "open"
    note: str = ""
    stands: str = "new"
    answer_to: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    comments: list[Comment] = field(default_factory=list)


class Desk:
    """The tickets, what the product has told of them, and what it is still to be told; kept in a file, where one is
    named."""

    def __init__(self, secret: str, file: Path | None = None) -> None:
        self.secret, self._file = secret, file
        self.tickets: dict[int, Ticket] = {}
        self.taken: list[str] = []
        self.waiting: list[Event] = []
        self.mood, self.teller = Mood(), Teller(secret, lambda: self.waiting, self.keep)
        if file is not None and file.exists():
            said = json.loads(file.read_text(encoding="utf-8"))
            for one in said["tickets"]:
                comments = [Comment(**comment) for comment in one.pop("comments")]
                self.tickets[one["number"]] = Ticket(**one, comments=comments)
            self.taken = said["taken"]
            self.waiting = [Event(**one) for one in said["waiting"]]

    def keep(self) -> None:
        """Keep everything as it is now."""
        if self._file is None:
            return
        said = {
            "tickets": [asdict(ticket) for ticket in self.tickets.values()],
            "taken": self.taken[-1000:],
            "waiting": [asdict(one) for one in self.waiting],
        }
        self._file.parent.mkdir(parents=True, exist_ok=True)
        beside = self._file.with_suffix(".new")
        beside.write_text(json.dumps(said), encoding="utf-8")
        beside.replace(self._file)

    def open(self, reference: str, title: str, text: str) -> Ticket:
        """The ticket of a reference, which is opened where there is none."""
        known = next((t for t in self.tickets.values() if t.reference == reference), None)
        if known is None:
            number = 1000 + len(self.tickets)
            known = self.tickets[number] = Ticket(number, reference, title, text)
            self.keep()
        return known

    def say(self, ticket: Ticket, kind: str, **of: Any) -> None:
        """Have the product told something of a ticket, if it said where."""
        if not ticket.answer_to:
            return
        data = {"reference": ticket.reference, "ticket": str(ticket.number), **of}
        body = {"type": kind, "timestamp": datetime.now(UTC).isoformat(), "data": data}
        self.waiting.append(Event(f"desk_{secrets.token_hex(12)}", ticket.answer_to, json.dumps(body)))
        self.keep()
        self.teller.more()

    def verified(self, body: bytes, fields: Any) -> str:
        """The id of a webhook of the product's. Raises `HTTPException` for one that it did not sign."""
        try:
            self.teller.webhook.verify(body, dict(fields))
        except WebhookVerificationError as error:
            raise HTTPException(401, f"not signed for this desk: {error}") from None
        return str(fields["webhook-id"])

    async def keep_telling(self) -> None:
        """Tell the product what it is to be told, one after the other, until it takes it."""
        await self.teller.keep_telling()


def router(desk: Desk) -> APIRouter:
    """The desk's pages, and what the product asks and tells it. It answers whoever signs with the secret, and signs
    what it answers."""
    made = APIRouter()

    async def asked_of_us(request: Request) -> str:
        """The id of a question that was signed for us."""
        _there(desk)
        scheme, _, token = request.headers.get("authorization", "").partition(" ")
        try:
            claims = jwt.decode(token, OctKey.import_key(desk.secret), algorithms=["HS256"]).claims
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
        shown = {name: getattr(ticket, name) for name in ("number", "reference", "title", "text", "state", "note")}
        claims = {"iss": "ticket desk", "aud": "calm tariff", "jti": asked, "iat": int(time.time()), "ticket": shown}
        signed = jwt.encode({"alg": "HS256"}, claims, OctKey.import_key(desk.secret), algorithms=["HS256"])
        return Response(signed, media_type="application/jwt")

    @made.post("/tickets")
    async def open_ticket(wanted: TicketIn, asked: str = Depends(asked_of_us)) -> Response:
        return answer(desk.open(wanted.reference, wanted.title, wanted.text), asked)

    @made.post("/tickets/events", status_code=204)
    async def take_event(request: Request) -> None:
        _there(desk)
        body = await request.body()
        event_id = desk.verified(body, request.headers)
        if event_id not in desk.taken:
            desk.taken.append(event_id)
            _take(desk, json.loads(body))
            desk.keep()

    @made.get("/tickets/{number}.json")
    async def as_json(number: int) -> Any:
        return asdict(_ticket(desk, number))

    @made.get("/tickets/{number}")
    async def one(number: int, asked: str = Depends(asked_of_us)) -> Response:
        return answer(_ticket(desk, number), asked)

    @made.put("/tickets-mood")
    async def set_mood(wanted: Mood) -> Mood:
        desk.mood = wanted
        return wanted

    @made.post("/tickets/{number}/decide", response_class=RedirectResponse, status_code=303)
    async def decide(number: int, decision: str = Form(), note: str = Form("")) -> str:
        ticket = _ticket(desk, number)
        if decision not in ("granted", "declined"):
            raise HTTPException(404, "no such decision")
        ticket.state, ticket.note, ticket.stands = decision, note, decision
        desk.say(ticket, "ticket.decided", decision=decision, note=note)
        desk.keep()
        return "/tickets"

    @made.post("/tickets/{number}/comment", response_class=RedirectResponse, status_code=303)
    async def comment(number: int, text: str = Form(), public: bool = Form(False)) -> str:
        ticket = _ticket(desk, number)
        ticket.comments.append(Comment("the desk", text, public))
        if ticket.stands == "new":
            ticket.stands = "being looked at"
            desk.say(ticket, "ticket.changed", state=ticket.stands)
        desk.say(ticket, "ticket.commented", by="", text=text, public=public)
        desk.keep()
        return "/tickets"

    @made.get("/tickets", response_class=HTMLResponse)
    async def page() -> str:
        rows = "".join(_row(t) for t in reversed(desk.tickets.values()))
        empty = "<p>No tickets yet. One arrives when somebody asks for a product that is decided here.</p>"
        return (
            "<!doctype html><html lang=en><meta charset=utf-8><title>Ticket desk</title><style>"
            "body{background:#F6F3EC;color:#1E2B2A;font:15px/1.5 system-ui,sans-serif;max-width:720px;margin:40px auto;"
            "padding:0 16px}article{border-top:1px solid #DDD6C8;padding:14px 0}h2{font-size:17px;margin:0}"
            "form{margin:6px 0}input[name=note],input[name=text]{font:inherit;padding:4px 8px;width:50%}"
            "button{font:inherit;padding:4px 10px}</style>"
            f"<main><h1>Ticket desk</h1>{rows or empty}</main></html>"
        )

    return made


def _there(desk: Desk) -> None:
    if desk.mood.away:
        raise HTTPException(503, "the desk is away")


def _ticket(desk: Desk, number: int) -> Ticket:
    if number not in desk.tickets:
        raise HTTPException(404, "no such ticket")
    return desk.tickets[number]


def _take(desk: Desk, event: dict[str, Any]) -> None:
    """Take what the product tells of a request."""
    data = event["data"]
    if event["type"] == "request.passed":
        ticket = desk.open(data["reference"], data["title"], data["purpose"])
        ticket.facts, ticket.answer_to = data, data["answer_to"]
        ticket.comments = [Comment(each["by"], each["text"]) for each in data["said_before"]] + ticket.comments
        desk.say(ticket, "ticket.opened")
        return
    known = next((t for t in desk.tickets.values() if t.reference == data["reference"]), None)
    if known is None:
        raise HTTPException(409, "no ticket was opened for it")
    if event["type"] == "request.taken_back":
        known.state = known.stands = "taken back"
    else:
        known.comments.append(Comment(data["by"], data["text"]))


def _row(ticket: Ticket) -> str:
    said = "".join(
        f"<li>{html.escape(c.by)}: {html.escape(c.text)}{'' if c.public else ' (not for the consumer)'}</li>"
        for c in ticket.comments
    )
    facts = _facts(ticket.facts) if ticket.facts else ""
    form = (
        f"<form method=post action=/tickets/{ticket.number}/comment><label>Comment <input name=text required></label> "
        "<label><input type=checkbox name=public value=true> for the consumer as well</label> "
        "<button>Comment</button></form>"
        f"<form method=post action=/tickets/{ticket.number}/decide><label>Note "
        f"<input name=note></label> <button name=decision value=granted>Grant</button> "
        "<button name=decision value=declined>Decline</button></form>"
        if ticket.state == "open"
        else f"<p>{ticket.state}{': ' + html.escape(ticket.note) if ticket.note else ''}</p>"
    )
    title, text = html.escape(ticket.title), html.escape(ticket.text)
    return (
        f"<article><h2>{ticket.number}: {title}</h2><p>{text}</p>{facts}"
        f"<ul>{said}</ul><p>{html.escape(ticket.stands)}</p>{form}</article>"
    )


def _facts(of: dict[str, Any]) -> str:
    who, charge = of["asked_by"]["name"], of["charge_of_a_month"]
    words = f"{who} of {of['organisation']}; a month is expected to be charged {charge['amount']} {charge['currency']}."
    return f"<p>{html.escape(words)} <a href='{html.escape(of['page'])}'>The request</a></p>"
