"""A payment processor at /processor: it has a page at which a card is typed, keeps cards and gives tokens for them,
takes money from them once for each key, gives it back, and says by signed webhooks what happens (Standard Webhooks).

What a card does is said by its number. How the processor behaves is set at /processor-mood: away, slow, telling twice
or out of order. It keeps what it knows over a restart, in a file.
"""

from __future__ import annotations

import html
import secrets
from dataclasses import asdict
from datetime import UTC, datetime
from decimal import Decimal
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Form, Header, HTTPException, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response
from pydantic import BaseModel, Field

from calm_tariff.standins.asked import known
from calm_tariff.standins.look import shown
from calm_tariff.standins.money.processing import BRAND, CARDS, Charge, Kept, Mood, Page, Processing, Refund


class PageIn(BaseModel):
    """A page that is asked for."""

    back_to: str
    events_to: str = ""


class ChargeIn(BaseModel):
    """Money that is asked for."""

    card: str
    amount: Decimal = Field(gt=0)
    currency: str
    about: str = ""
    events_to: str = ""


class RefundIn(BaseModel):
    """Money that is to go back."""

    charge: str
    amount: Decimal = Field(gt=0)
    currency: str
    events_to: str = ""


_Text = Annotated[str, Form()]
_Key = Annotated[str, Header(alias="Idempotency-Key")]


def router(of: Processing) -> APIRouter:
    """The processor's pages, and what it is asked."""
    made, everything = APIRouter(), of.all

    asked = [known(of, "the processor")]

    @made.post("/processor/pages", dependencies=asked)
    async def open_page(request: Request, wanted: PageIn, key: _Key) -> Any:
        page = next((p for p in everything.pages.values() if p.key == key), None)
        if page is None:
            page = Page(f"page-{secrets.token_urlsafe(18)}", key, wanted.back_to, wanted.events_to)
            everything.pages[page.page] = page
            of.keep()
        return {"page": page.page, "address": f"{str(request.base_url).rstrip('/')}/processor/cards/{page.page}"}

    @made.get("/processor/pages/{page}", dependencies=asked)
    async def page_of(page: str) -> Any:
        kept = everything.cards.get(_page(of, page).card)
        card = (
            {"token": kept.token, "brand": BRAND, "last_four": kept.last_four, "ends_on": kept.ends_on}
            if kept
            else None
        )
        return {"page": page, "card": card}

    @made.delete("/processor/cards/{token}", status_code=204, dependencies=asked)
    async def forget(token: str) -> None:
        everything.cards.pop(token, None)
        of.keep()

    @made.post("/processor/charges", dependencies=asked)
    async def charge(wanted: ChargeIn, key: _Key) -> Any:
        found = everything.charges.get(key)
        if found is None:
            found = Charge(
                reference=f"charge-{secrets.token_hex(8)}",
                key=key,
                card=wanted.card,
                amount=str(wanted.amount),
                currency=wanted.currency,
                about=wanted.about,
                events_to=wanted.events_to,
            )
            everything.charges[key] = found
            kept = everything.cards.get(wanted.card)
            if kept is None:
                found.state, found.failure = "failed", "unknown card"
            else:
                kept.tried += 1
                if kept.does.startswith("slow"):
                    of.later(found)
                else:
                    of.settle(found)
            of.keep()
            if of.mood.loses:
                raise HTTPException(504, "the answer is lost on its way")
        elif (found.card, Decimal(found.amount)) != (wanted.card, wanted.amount):
            raise HTTPException(409, "this key was used for another charge")
        return {"reference": found.reference, "state": found.state, "failure": found.failure}

    @made.post("/processor/refunds", dependencies=asked)
    async def refund(wanted: RefundIn, key: _Key) -> Any:
        found = everything.refunds.get(key)
        if found is None:
            source = _charge(of, wanted.charge)
            found = Refund(f"refund-{secrets.token_hex(8)}", key, wanted.charge, str(wanted.amount))
            back = Decimal(source.refunded) + wanted.amount
            gone = source.card not in everything.cards
            if source.state != "done" or back > Decimal(source.amount) or gone:
                found.state, found.failure = "failed", "unknown card" if gone else "refused"
            else:
                source.refunded = str(back)
            everything.refunds[key] = found
            kind = "refund.failed" if found.failure else "refund.paid_out"
            of.say(source.events_to, kind, key=key, charge=source.reference, failure=found.failure)
        return {"reference": found.reference, "state": found.state, "failure": found.failure}

    @made.get("/processor/cards/{page}", response_class=HTMLResponse)
    async def card_form(page: str) -> str:
        return _form(_page(of, page), "")

    @made.post("/processor/cards/{page}")
    async def take_card(page: str, number: _Text = "", ends: _Text = "", code: _Text = "") -> Response:
        opened = _page(of, page)
        wrong = _wrong(number, ends, code)
        if wrong:
            return HTMLResponse(_form(opened, wrong), 422)
        if not opened.card:
            digits = _digits(number)
            does = next(does for shown, (does, _) in CARDS.items() if _digits(shown) == digits)
            token = f"card-{secrets.token_urlsafe(18)}"
            everything.cards[token] = Kept(token, does, digits[-4:], _ends_on(ends))
            opened.card = token
            of.say(opened.events_to, "card.kept", page=opened.page)
        return RedirectResponse(opened.back_to, 303)

    @made.post("/processor/charges/{reference}/dispute", response_class=RedirectResponse, status_code=303)
    async def dispute(reference: str, step: Annotated[Literal["opened", "won", "lost"], Form()]) -> str:
        found = _charge(of, reference)
        found.dispute = found.dispute or f"dispute-{secrets.token_hex(8)}"
        found.disputed = step
        amount = str(Decimal(found.amount) - Decimal(found.refunded))
        kind, why = f"dispute.{step}", "The goods did not come."
        said = {"charge": reference, "key": found.key, "dispute": found.dispute, "amount": amount, "reason": why}
        of.say(found.events_to or of.events_to, kind, **said)
        return "/processor"

    @made.put("/processor-mood")
    async def set_mood(wanted: Mood) -> Mood:
        of.mood = wanted
        return wanted

    @made.get("/processor.json")
    async def as_json() -> Any:
        return {"charges": [asdict(c) for c in everything.charges.values()], "telling": len(everything.events)}

    @made.get("/processor", response_class=HTMLResponse)
    async def page() -> str:
        return shown("The payment processor", "".join(map(_row, reversed(everything.charges.values()))) or _EMPTY)

    return made


_EMPTY = "<p>Nothing was charged yet. It is when an invoice is due whose consumer has given a card.</p>"


def _page(of: Processing, page: str) -> Page:
    if page not in of.all.pages:
        raise HTTPException(404, "there is no such page")
    return of.all.pages[page]


def _charge(of: Processing, reference: str) -> Charge:
    found = next((c for c in of.all.charges.values() if c.reference == reference), None)
    if found is None:
        raise HTTPException(404, "there is no such charge")
    return found


def _digits(number: str) -> str:
    return "".join(c for c in number if c in "0123456789")


def _ends_on(ends: str) -> str:
    """The first day after a month of the form 12/29."""
    month, year = (int(part) for part in ends.split("/"))
    return f"{2000 + year + month // 12}-{month % 12 + 1:02}-01"


def _wrong(number: str, ends: str, code: str) -> str:
    """What is not right about a card; "" for nothing."""
    digits = _digits(number)
    doubled = [int(d) * (2 - (n % 2 == 0)) for n, d in enumerate(reversed(digits))]
    if sum(d - 9 if d > 9 else d for d in doubled) % 10 or len(digits) < 12:
        return "The number is not right: look at its digits."
    if digits not in map(_digits, CARDS):
        return "This processor takes the cards below, and no real ones."
    parts = ends.split("/")
    if len(parts) != 2 or not all(part.isdigit() and len(part) == 2 for part in parts) or not 1 <= int(parts[0]) <= 12:
        return "Until when it is good is a month such as 12/29."
    if _ends_on(ends) <= f"{datetime.now(UTC):%Y-%m-%d}":
        return "It has expired."
    return "" if code.isdigit() and len(code) == 3 else "The code has three digits."


def _form(page: Page, wrong: str) -> str:
    rows = "".join(f"<li><code>{number}</code> {html.escape(words)}</li>" for number, (_, words) in CARDS.items())
    said = f"<p role=alert>{html.escape(wrong)}</p>" if wrong else ""
    return shown(
        "Give a card",
        f"<p>The payment processor keeps it; whoever charges it never sees its number.</p>{said}"
        "<form method=post>"
        "<p><label>Card number<br><input name=number inputmode=numeric required autofocus></label></p>"
        "<p><label>Good until (month/year)<br><input name=ends placeholder=12/29 required></label></p>"
        "<p><label>Code on its back<br><input name=code inputmode=numeric required></label></p>"
        f"<p><button>Keep this card</button> <a href='{html.escape(page.back_to)}'>Go back without</a></p></form>"
        f"<h2>Cards that there are</h2><ul>{rows}</ul>",
    )


def _row(of: Charge) -> str:
    steps = {"": ("opened",), "opened": ("won", "lost")}.get(of.disputed, ()) if of.state == "done" else ()
    words = {"opened": "Its owner disputes it", "won": "The dispute is won", "lost": "The dispute is lost"}
    buttons = "".join(f"<button name=step value={step}>{words[step]}</button> " for step in steps)
    back = f", {of.refunded} went back" if Decimal(of.refunded) else ""
    return (
        f"<article><h2>{html.escape(of.about)}: {of.amount} {html.escape(of.currency)}</h2>"
        f"<p>{of.state}{': ' + of.failure if of.failure else ''}{back}"
        f"{', dispute ' + of.disputed if of.disputed else ''}</p>"
        f"<form method=post action=/processor/charges/{of.reference}/dispute>{buttons}</form></article>"
    )
