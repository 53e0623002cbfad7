"""What the worker asks of the outside: whether back ends are well, and how tickets were decided."""

from __future__ import annotations

import time

import httpx

from calm_tariff.edge import reaching
from calm_tariff.services import admission, back_ends
from calm_tariff.services.back_ends import Answer, Question
from calm_tariff.services.context import Context

PATIENCE = httpx.Timeout(3)


def ask_back_ends(ctx: Context) -> None:
    """Ask every back end once and keep what it answers. Any answer below 500 is well."""
    questions = back_ends.to_ask(ctx)
    with reaching.client(ctx.reach, timeout=PATIENCE) as client:
        back_ends.keep(ctx, [(question, _answer(client, question)) for question in questions])


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


def exchange_tickets(ctx: Context, desk: str) -> None:
    """Open a ticket for every request that an outside system decides, and carry out what was decided there.

    The desk knows a request by its id, so that opening it twice makes one ticket.
    """
    with httpx.Client(base_url=desk, timeout=PATIENCE) as client:
        for request in admission.without_ticket(ctx):
            body = {
                "reference": f"request-{request.id}",
                "title": f"{request.product} · {request.plan} for {request.consumer}",
                "text": request.purpose,
            }
            answer = client.post("/tickets", json=body).raise_for_status()
            admission.keep_ticket(ctx, request.id, str(answer.json()["number"]))
        for request in admission.with_ticket(ctx):
            ticket = client.get(f"/tickets/{request.ticket}").raise_for_status().json()
            if ticket["state"] == "granted":
                admission.decide_outside(ctx, request.id, "granted", ticket["note"])
            elif ticket["state"] == "declined":
                admission.decide_outside(ctx, request.id, "declined", ticket["note"] or "The outside desk declined it.")
