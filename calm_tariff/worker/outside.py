"""What the worker asks of the outside: whether back ends are well, and how tickets were decided."""

from __future__ import annotations

import logging
import time
from typing import Any

import httpx

from calm_tariff.edge import reaching
from calm_tariff.services.admit.desk import outside_decisions, outside_events
from calm_tariff.services.base.context import Context
from calm_tariff.services.compose.apis import back_ends
from calm_tariff.services.compose.apis.back_ends import Answer, Question
from calm_tariff.services.observe import alerts
from calm_tariff.worker.ticket_desk import TicketDesk, Unproven

log = logging.getLogger("calm_tariff.worker")

PATIENCE = httpx.Timeout(3)


def ask_back_ends(ctx: Context) -> None:
    """Ask every back end once and keep what it answers. Any answer below 500 is well."""
    questions = back_ends.to_ask(ctx)
    answers: list[tuple[Question, Answer]] = []
    if questions:  # what asks takes longer to make than all else here
        with reaching.client(ctx.reach, timeout=PATIENCE) as client:
            answers = [(question, _answer(client, question)) for question in questions]
    back_ends.keep(ctx, answers)


def _answer(client: httpx.Client, question: Question) -> Answer:
    begun = time.monotonic()
    try:
        with client.stream("GET", question.url, headers=question.headers) as answer:
            status = answer.status_code
    except httpx.TimeoutException:
        return Answer(False, "did not answer within 3 s", 3000)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        words = error.args[0] if isinstance(error, httpx.ConnectError) and error.args else error.__class__.__name__
        return Answer(False, f"cannot be reached: {words}", _ms(begun))
    return Answer(status < 500, f"answered {status}", _ms(begun))


def _ms(begun: float) -> int:
    return round((time.monotonic() - begun) * 1000)


def send_webhook(ctx: Context, of: dict[str, Any]) -> None:
    """Send an alert to where its consumer wants it. Raises `httpx.HTTPError` where that is away or does not take it.
    More of an answer than that is not read: one that never ends holds up nobody."""
    wanted = alerts.outgoing(ctx, of["consumer"], of["event"], of["body"])
    if wanted is None:
        return
    with reaching.client(ctx.reach.public(), timeout=PATIENCE) as client:
        signed = wanted.signed
        with client.stream("POST", wanted.url, content=signed.body, headers=dict(signed.fields)) as answer:
            answer.raise_for_status()


def ask_ticket_desk(ctx: Context, address: str, secret: str, request_id: int) -> bool:
    """Exchange a request's ticket with the desk at an address, which shares a secret with us; see `exchange`."""
    with httpx.Client(base_url=address, timeout=PATIENCE) as client:
        return exchange(ctx, TicketDesk(client, secret, ctx.clock), request_id)


def tell_ticket_desk(ctx: Context, address: str, secret: str, request_id: int) -> None:
    """Tell the desk at an address what it does not know yet of a request, in order. Raises `httpx.HTTPError` where it
    is away or does not take it; what it took it is not told again."""
    with httpx.Client(base_url=address, timeout=PATIENCE) as client:
        while (event := outside_events.next_to_tell(ctx, request_id, secret)) is not None:
            signed = event.signed
            client.post("/tickets/events", content=signed.body, headers=dict(signed.fields)).raise_for_status()
            outside_events.told(ctx, request_id, event.message_id)


def exchange(ctx: Context, desk: TicketDesk, request_id: int) -> bool:
    """Open a ticket for a request that an outside system decides, or carry out what was decided there; whether it is
    decided now. Raises `httpx.HTTPError` where the desk is away, and `Unproven`."""
    request = outside_decisions.passed(ctx, request_id)
    if request is None:
        return True
    reference = f"request-{request.id}"
    known = desk.look(request.ticket) if request.ticket else None
    if known is None or known.reference != reference:  # it has none yet, or has lost it and gave its number away
        known = desk.open(reference, f"{request.product} · {request.plan} for {request.consumer}", request.purpose)
    if known.reference != reference:
        raise Unproven(f"ticket {known.number} is about {known.reference or 'nothing'}, not about {reference}")
    if known.number != request.ticket:
        outside_decisions.keep_ticket(ctx, request.id, known.number)
    if known.state == "granted":
        outside_decisions.decide_outside(ctx, request.id, "granted", known.note)
    elif known.state == "declined":
        outside_decisions.decide_outside(ctx, request.id, "declined", known.note or "The outside desk declined it.")
    return known.state in ("granted", "declined")
