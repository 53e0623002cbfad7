"""Deciding for reverse proxies that forward calls themselves.

`POST /decisions` and the subrequest form `GET /authorize` decide as the gateway does, and take from the limits.
What became of a call is told to `POST /usage`; a call whose outcome is not to be told is recorded at once, as
answered with 200. A call whose outcome was promised and is not told in time is recorded so, too: served is charged.
"""

from __future__ import annotations

import asyncio
import hmac
import time
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from fastapi import Depends, FastAPI, Header, Request, Response
from pydantic import BaseModel, Field

from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.answers import challenge, told_back_end
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.asked import Asked, metering, name_of, record_of
from calm_tariff.gateway.credentials import Fault, without_keys
from calm_tariff.gateway.journal import Unwritable
from calm_tariff.gateway.neighbours import Neighbours
from calm_tariff.gateway.promises import Promises

PROMISED_SECONDS = 60
REMEMBERED = 100_000


class CallIn(BaseModel):
    """A call to decide on, as it reached the proxy. `headers` must hold the credential. `outcome` says whether
    it will be told to /usage; otherwise it is taken to be answered with 200."""

    method: str = Field(max_length=20)
    uri: str = Field(max_length=8000, description="path and query as sent, such as /tides/v1/stations?near=x")
    headers: dict[str, str]
    address: str = ""
    outcome: Literal["told", "assumed"] = "told"


class Verdict(BaseModel):
    """What to do: `status` 200 lets the call through after `wait_ms`; otherwise answer with `status` and `body`.
    `headers` go on the answer to the caller, `to_back_end` on the call to the back end, which is asked for `target`:
    `rest` of the path, with the query but for keys."""

    id: str
    status: int
    verdict: str
    wait_ms: int
    headers: dict[str, str]
    to_back_end: dict[str, str]
    body: dict[str, Any] | None
    rest: str
    target: str


class OutcomeIn(BaseModel):
    """What became of a call that was let through. `reported` are the header values that meters read."""

    id: str = Field(max_length=26)
    status: int = Field(ge=100, le=599)
    bytes_in: int = Field(default=0, ge=0)
    bytes_out: int = Field(default=0, ge=0)
    took_ms: int = Field(default=0, ge=0)
    reported: dict[str, str] = {}


class Told(BaseModel):
    """How many outcomes were new, and the ids of those that were not: told already with the same outcome
    (`repeated`) or another (`conflicting`, set aside), or not known to any gateway (`unknown`). What a gateway may know
    that does not answer at the moment is in `later`: tell it again."""

    recorded: int = 0
    repeated: list[str] = []
    conflicting: list[str] = []
    unknown: list[str] = []
    later: list[str] = []


@dataclass(slots=True)
class Decisions:
    """Calls decided on whose outcome is awaited, and those recorded lately."""

    gateway: Gateway
    token: str
    promises: Promises
    neighbours: Neighbours
    awaited: OrderedDict[str, tuple[float, Asked]] = field(default_factory=OrderedDict)
    told: OrderedDict[str, OutcomeIn | None] = field(default_factory=OrderedDict)

    def allow(self, calm_proxy_token: Annotated[str, Header()] = "") -> None:
        """Let only the provider's own proxies ask."""
        if not hmac.compare_digest(calm_proxy_token.encode(), self.token.encode()):
            raise _Refused(401, "proxy-unknown", "Unknown proxy", "Send the token of this installation's proxies.")

    async def decide(self, call: CallIn) -> tuple[Asked, Fault | None, Headers, bytes]:
        """Decide on a call: the call, why it is refused before any limit, the fields and body to answer with."""
        gateway = self.gateway
        if gateway.snapshot.number < 0 or gateway.journal.fault:
            raise _Refused(503, "not-ready", "Not ready", "Calls cannot be recorded at the moment, so none is let on.")
        parts = urlsplit(call.uri if call.uri.startswith("/") else f"/{call.uri}")
        headers = [(k.lower().encode("latin-1", "replace"), v.encode("latin-1", "replace"))
                   for k, v in call.headers.items()]  # fmt: skip
        asked = Asked(gateway.now(), call.method.upper(), call.uri.partition("?")[0], headers, call.address)
        asked.place = gateway.snapshot.place(asked.method, asked.path, headers)
        fault = await gateway.admit(asked, parts.query.encode("latin-1", "replace"))
        body: bytes = b""
        fields: Headers = []
        if fault is None:
            fault = await gateway.decide(asked)
        if fault is not None:
            asked.refused_by = fault.by
            body, fields = replies.problem(fault.status, fault.title, fault.detail, code=fault.code)
            fields += challenge(asked, fault)
            asked.status = fault.status
        elif asked.verdict == "refused":
            assert asked.decided
            body, fields = replies.refusal(asked.decided.decision, asked.decided.at_us)
            asked.status = 429
        asked.fields = fields + asked.fields
        asked.told = {k.decode(): v.decode("latin-1") for k, v in asked.fields if k != b"content-type"}
        if body:
            self._record(asked, None)
        elif call.outcome == "assumed":
            asked.status = 200
            asked.remarks.append("decided for a proxy; its outcome was not to be told and is taken for 200")
            self._record(asked, None)
        else:
            asked.remarks.append("decided for a proxy, which forwarded it")
            self._promise(asked)
            self.awaited[name_of(asked)] = (time.monotonic() + PROMISED_SECONDS, asked)
        return asked, fault, asked.fields, body

    def start(self) -> None:
        """Record what an earlier process let through and was never told of, as answered with 200."""
        for record in self.promises.start():
            self.gateway.journal.append(record)
        self.promises.forget()

    def _promise(self, asked: Asked) -> None:
        """Keep on disk what is to be recorded should this process die before it is told the outcome."""
        asked.status = 200
        record = record_of(asked, self.gateway.name, metering(asked)[0], asked.at_us)
        record["remarks"] = [*record["remarks"], "its outcome was lost with the gateway, and is taken for 200"]
        try:
            self.promises.make(record)
        except OSError:
            raise _Refused(503, "not-ready", "Not ready", "Calls cannot be recorded at the moment.") from None

    async def tell_all(self, outcomes: list[OutcomeIn]) -> Told:
        """Record what became of calls, whichever gateway decided on them."""
        said = self.tell(outcomes)
        if not said.unknown:
            return said
        strange = set(said.unknown)
        passed_on = [outcome.model_dump() for outcome in outcomes if outcome.id in strange]
        answers, all_answered = await self.neighbours.tell(passed_on)
        for answer in (Told.model_validate(each) for each in answers):
            strange &= set(answer.unknown)
            said.recorded += answer.recorded
            said.repeated += answer.repeated
            said.conflicting += answer.conflicting
        left = [name for name in said.unknown if name in strange]
        said.unknown, said.later = (left, []) if all_answered else ([], left)
        return said

    def tell(self, outcomes: list[OutcomeIn]) -> Told:
        """Record what became of calls that this gateway decided on."""
        said = Told()
        for outcome in outcomes:
            known = self.awaited.pop(outcome.id, None)
            if known is not None:
                asked = known[1]
                asked.status, asked.bytes_in, asked.bytes_out = outcome.status, outcome.bytes_in, outcome.bytes_out
                asked.back_end_us = outcome.took_ms * 1000
                lower = {k.lower(): v for k, v in outcome.reported.items()}
                if asked.access:
                    names = [c.meter.header for c in asked.access.meters if c.meter.header]
                    asked.reported = {name: lower.get(name.lower()) for name in names}
                self._record(asked, outcome, promised=True)
                said.recorded += 1
            elif outcome.id in self.told:
                before = self.told[outcome.id]
                if before == outcome:
                    said.repeated.append(outcome.id)
                else:
                    self._set_aside(outcome)
                    said.conflicting.append(outcome.id)
            else:
                said.unknown.append(outcome.id)
        return said

    def _set_aside(self, outcome: OutcomeIn) -> None:
        """Hand on what a repeat says of a recorded call; whoever records calls keeps what differs."""
        repeat = {"call_id": outcome.id, "source": self.gateway.name, "status": outcome.status,
                  "bytes_in": outcome.bytes_in, "bytes_out": outcome.bytes_out,
                  "back_end_us": outcome.took_ms * 1000}  # fmt: skip
        try:
            self.gateway.journal.append(repeat)
        except Unwritable:
            raise _Refused(503, "not-ready", "Not ready", "Nothing can be recorded at the moment.") from None

    async def give_up(self) -> None:
        """Record calls whose outcome was promised and is overdue, until cancelled."""
        while True:
            await asyncio.sleep(1)
            self.overdue(time.monotonic())

    def overdue(self, now: float) -> None:
        """Record what is overdue at an instant of the monotonic clock."""
        while self.awaited:
            name, (due, asked) = next(iter(self.awaited.items()))
            if due > now:
                return
            del self.awaited[name]
            asked.status = 200
            asked.remarks.append(f"its outcome was not told within {PROMISED_SECONDS} s and is taken for 200")
            self._record(asked, None, promised=True)

    def _record(self, asked: Asked, outcome: OutcomeIn | None, promised: bool = False) -> None:
        try:
            self.gateway.record(asked)
        except Unwritable:
            if outcome is None and asked.refused_by:
                return
            # Kept, so that it is recorded once the journal can be written again.
            self.awaited[name_of(asked)] = (time.monotonic() + PROMISED_SECONDS, asked)
            raise _Refused(503, "not-ready", "Not ready", "Calls cannot be recorded at the moment.") from None
        if outcome is not None or name_of(asked) not in self.told:
            self.told[name_of(asked)] = outcome
        if promised:
            self.promises.told(name_of(asked))
        if len(self.told) > REMEMBERED:
            self.told.popitem(last=False)


# What a proxy's subrequest says of the call; everything else of its head is the caller's.
_TOLD = frozenset({"x-original-method", "x-original-uri", "x-original-address"})


class _Refused(Exception):
    def __init__(self, status: int, code: str, title: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.code, self.title, self.detail = status, code, title, detail


def create_app(decisions: Decisions) -> FastAPI:
    """The decision service."""
    app = FastAPI(title="Calm Tariff decisions", version="1", docs_url=None, redoc_url=None)
    allowed = [Depends(decisions.allow)]

    @app.exception_handler(_Refused)
    async def refused(request: Request, error: _Refused) -> Response:
        """Refusals as problem details."""
        body, fields = replies.problem(error.status, error.title, error.detail, code=error.code)
        return Response(body, error.status, {k.decode(): v.decode() for k, v in fields})

    @app.post("/decisions", dependencies=allowed)
    async def decide(call: CallIn) -> Verdict:
        """Decide on a call."""
        asked, _, fields, body = await decisions.decide(call)
        return Verdict(
            id=name_of(asked),
            status=asked.status if body else 200,
            verdict=asked.verdict,
            wait_ms=-(-asked.decided.decision.wait_us // 1000) if asked.decided else 0,
            headers={k.decode(): v.decode("latin-1") for k, v in fields},
            to_back_end=_to_back_end(asked),
            body=replies.read_problem(body) if body else None,
            rest=asked.place.rest if asked.place else "",
            target=_target(decisions, asked, call.uri),
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
        headers = {k: v for k, v in request.headers.items() if k not in _TOLD and not k.startswith("calm-")}
        call = CallIn(method=x_original_method, uri=x_original_uri, headers=headers, address=x_original_address,
                      outcome=calm_outcome)  # fmt: skip
        asked, _, fields, body = await decisions.decide(call)
        status = asked.status if body else 200
        if asked.decided and asked.decided.decision.wait_us and not body:
            await asyncio.sleep(asked.decided.decision.wait_us / 1_000_000)
        told = Response(body, status if status in (200, 401, 403, 429) else 403)
        for name, value in fields:
            if name != b"content-length":
                told.raw_headers.append((name, value))
        told.headers["Calm-Status"] = str(status)
        told.headers["Calm-Decision"] = name_of(asked)
        if not body:
            told.headers["Calm-Target"] = _target(decisions, asked, call.uri)
        for key, text in _to_back_end(asked).items():
            told.headers[key] = text
        return told

    @app.post("/usage", dependencies=allowed)
    async def usage(outcomes: list[OutcomeIn], calm_passed_on: Annotated[str, Header()] = "") -> Told:
        """Tell what became of calls, in a batch, to whichever gateway; each counts once, however often it is told."""
        return decisions.tell(outcomes) if calm_passed_on else await decisions.tell_all(outcomes)

    return app


def _target(decisions: Decisions, asked: Asked, uri: str) -> str:
    """What to ask the back end for: the path without the API's own, and the query without keys."""
    if asked.place is None:
        return ""
    query = uri.partition("?")[2].encode("latin-1", "replace")
    kept = without_keys(query, decisions.gateway.snapshot.key_queries) if query else b""
    return asked.place.rest + (f"?{kept.decode('latin-1')}" if kept else "")


def _to_back_end(asked: Asked) -> dict[str, str]:
    """Who calls, for a call that is let through and whose API's owner wants its back end told."""
    place = asked.place
    if asked.refused_by or asked.access is None or place is None or not place.route.forwarding.passes_caller:
        return {}
    return {k.decode(): v.decode() for k, v in told_back_end(asked)}
