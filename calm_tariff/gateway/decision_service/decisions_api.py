"""The decision service over HTTP."""

from __future__ import annotations

import asyncio
from typing import Annotated, Literal

from fastapi import Depends, FastAPI, Header, Request, Response

from calm_tariff.formats import replies
from calm_tariff.gateway.answers import told_back_end
from calm_tariff.gateway.decision_service.decisions import (
    Answer,
    CallIn,
    Decisions,
    OutcomeIn,
    Told,
    Unavailable,
    VerdictOut,
)
from calm_tariff.gateway.verdict import calls
from calm_tariff.gateway.verdict.calls import Judged
from calm_tariff.gateway.verdict.credentials import ASKS_FOR, without_keys

# What a proxy's subrequest says of the call; everything else of its head is the caller's.
_TOLD = frozenset({"x-original-method", "x-original-uri", "x-original-address"})


def _is_callers(name: str) -> bool:
    """Whether a field is the caller's own, and not one by which a proxy asks us."""
    return not name.startswith("calm-") or name == ASKS_FOR.decode()


def create_app(decisions: Decisions) -> FastAPI:
    """The decision service."""
    app = FastAPI(title="Calm Tariff decisions", version="1", docs_url=None, redoc_url=None)
    allowed = [Depends(decisions.allow)]

    @app.exception_handler(Unavailable)
    async def refused(request: Request, error: Unavailable) -> Response:
        """Refusals as problem details."""
        body, fields = replies.problem(error.status, error.title, error.detail, code=error.code)
        return Response(body, error.status, {k.decode(): v.decode() for k, v in fields})

    @app.post("/decisions", dependencies=allowed)
    async def decide(call: CallIn) -> VerdictOut:
        """Decide on a call."""
        answer = await decisions.decide(call)
        judged = answer.verdict if isinstance(answer.verdict, Judged) else None
        place = calls.located(answer.verdict).place
        return VerdictOut(
            id=answer.verdict.call.id,
            status=answer.status,
            verdict=judged.decided.decision.verdict if judged else "refused",
            wait_ms=-(-judged.decided.decision.wait_us // 1000) if judged else 0,
            headers={k.decode(): v.decode("latin-1") for k, v in answer.fields},
            to_back_end=_to_back_end(answer),
            body=replies.read_problem(answer.body) if answer.body else None,
            rest=place.rest if place else "",
            target=_target(decisions, answer),
        )

    @app.get("/authorize", dependencies=allowed)
    async def authorize(
        request: Request,
        x_original_method: Annotated[str, Header()],
        x_original_uri: Annotated[str, Header()],
        x_original_address: Annotated[str, Header()] = "",
        calm_outcome: Annotated[Literal["told", "assumed"], Header()] = "assumed",
    ) -> Response:
        """Decide on the call of a subrequest: 200 with fields to pass on, 401, 403 or 429.

        A subrequest can say only these, so that other refusals come as 403, with the true status in
        `Calm-Status`. A call over its pace is held here, before the answer.
        """
        headers = {k: v for k, v in request.headers.items() if k not in _TOLD and _is_callers(k)}
        call = CallIn(
            method=x_original_method,
            uri=x_original_uri,
            headers=headers,
            address=x_original_address,
            outcome=calm_outcome,
        )
        answer = await decisions.decide(call)
        if isinstance(answer.verdict, Judged) and answer.verdict.let_through:
            await asyncio.sleep(answer.verdict.decided.decision.wait_us / 1_000_000)
        told = Response(answer.body, answer.status if answer.status in (200, 401, 403, 429) else 403)
        for name, value in answer.fields:
            if name != b"content-length":
                told.raw_headers.append((name, value))
        told.headers["Calm-Status"] = str(answer.status)
        told.headers["Calm-Decision"] = answer.verdict.call.id
        if not answer.body:
            told.headers["Calm-Target"] = _target(decisions, answer)
        for key, text in _to_back_end(answer).items():
            told.headers[key] = text
        return told

    @app.post("/usage", dependencies=allowed)
    async def usage(outcomes: list[OutcomeIn], calm_passed_on: Annotated[str, Header()] = "") -> Told:
        """Tell what became of calls, in a batch, to whichever gateway; each counts once, however often it is told."""
        return decisions.tell(outcomes) if calm_passed_on else await decisions.tell_all(outcomes)

    return app


def _target(decisions: Decisions, answer: Answer) -> str:
    """What to ask the back end for: the path without the API's own, and the query without keys."""
    call, place = calls.located(answer.verdict)
    if place is None:
        return ""
    query = call.query
    kept = without_keys(query, decisions.gateway.snapshot.key_queries) if query else b""
    return place.rest + (f"?{kept.decode('latin-1')}" if kept else "")


def _to_back_end(answer: Answer) -> dict[str, str]:
    """Who calls, for a call that is let through and whose API's owner wants its back end told."""
    verdict = answer.verdict
    if not isinstance(verdict, Judged) or not verdict.let_through:
        return {}
    if not verdict.admitted.place.route.forwarding.passes_caller:
        return {}
    return {k.decode(): v.decode() for k, v in told_back_end(verdict.admitted)}
