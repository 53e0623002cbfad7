"""Deciding for reverse proxies that forward calls themselves: what became of a call is told afterwards.

A call whose outcome is not to be told is recorded at once, as answered with 200. A call whose outcome was promised and
is not told in time is recorded so, too: served is charged.
"""

from __future__ import annotations

import asyncio
import hmac
import time
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal
from urllib.parse import urlsplit

from fastapi import Header
from pydantic import BaseModel, Field

from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway.answers import challenge
from calm_tariff.gateway.app import Gateway
from calm_tariff.gateway.decision_service.neighbours import Neighbours
from calm_tariff.gateway.decision_service.promises import Promises
from calm_tariff.gateway.recording.journal import Unwritable
from calm_tariff.gateway.recording.records import metering, record_of
from calm_tariff.gateway.verdict import calls, judging
from calm_tariff.gateway.verdict.calls import InboundCall, Judged, Outcome, Refused, Verdict

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


class VerdictOut(BaseModel):
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


class Unavailable(Exception):
    """The service refuses, whatever the call."""

    def __init__(self, status: int, code: str, title: str, detail: str) -> None:
        super().__init__(detail)
        self.status, self.code, self.title, self.detail = status, code, title, detail


def not_ready(detail: str = "Calls cannot be recorded at the moment.") -> Unavailable:
    """The service cannot promise to record anything."""
    return Unavailable(503, "not-ready", "Not ready", detail)


@dataclass(frozen=True, slots=True)
class Answer:
    """What a proxy is told: the verdict, and, where the call is refused, the status, body and fields to answer with;
    where it is let through, the fields to put on the back end's answer."""

    verdict: Verdict
    status: int
    body: bytes
    fields: Headers


@dataclass(frozen=True, slots=True)
class Awaited:
    """A call that was let through, and until when its outcome is awaited, by the monotonic clock."""

    due: float
    judged: Judged
    outcome: Outcome


@dataclass(slots=True)
class Decisions:
    """Calls decided on whose outcome is awaited, and those recorded lately."""

    gateway: Gateway
    token: str
    promises: Promises
    neighbours: Neighbours
    awaited: OrderedDict[str, Awaited] = field(default_factory=OrderedDict)
    told: OrderedDict[str, OutcomeIn | None] = field(default_factory=OrderedDict)

    def allow(self, calm_proxy_token: Annotated[str, Header()] = "") -> None:
        """Let only the provider's own proxies ask."""
        if not hmac.compare_digest(calm_proxy_token.encode(), self.token.encode()):
            raise Unavailable(401, "proxy-unknown", "Unknown proxy", "Send the token of this installation's proxies.")

    async def decide(self, asked: CallIn) -> Answer:
        """Decide on a call, as the gateway does on one that it forwards."""
        gateway = self.gateway
        if gateway.snapshot.number < 0 or gateway.journal.fault:
            raise not_ready("Calls cannot be recorded at the moment, so none is let on.")
        verdict = await judging.judge(gateway, judging.locate(gateway, self._inbound(asked)))
        outcome, fields = Outcome(), judging.reply_fields(verdict)
        if isinstance(verdict, Judged) and verdict.let_through:
            outcome.status = 200
            outcome.tells(fields)
            self._let_through(verdict, outcome, asked.outcome)
            return Answer(verdict, 200, b"", fields)
        if isinstance(verdict, Refused):
            fault = verdict.fault
            outcome.status = fault.status
            body, own = replies.problem(fault.status, fault.title, fault.detail, code=fault.code)
            own += challenge(verdict)
        else:
            outcome.status = 429
            body, own = replies.refusal(verdict.decided.decision, verdict.decided.at_us)
        outcome.tells(own + fields)
        self._record(verdict, outcome, None)
        return Answer(verdict, outcome.status, body, own + fields)

    def start(self) -> None:
        """Record what an earlier process let through and was never told of, as answered with 200."""
        for record in self.promises.start():
            self.gateway.journal.append(record)
        self.promises.forget()

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
        for told in outcomes:
            known = self.awaited.pop(told.id, None)
            if known is not None:
                self._take_in(known, told)
                said.recorded += 1
            elif told.id in self.told:
                if self.told[told.id] == told:
                    said.repeated.append(told.id)
                else:
                    self._set_aside(told)
                    said.conflicting.append(told.id)
            else:
                said.unknown.append(told.id)
        return said

    async def give_up(self) -> None:
        """Record calls whose outcome was promised and is overdue, until cancelled."""
        while True:
            await asyncio.sleep(1)
            self.overdue(time.monotonic())

    def overdue(self, now: float) -> None:
        """Record what is overdue at an instant of the monotonic clock."""
        while self.awaited:
            name, known = next(iter(self.awaited.items()))
            if known.due > now:
                return
            del self.awaited[name]
            self.gateway.breakers.of(known.judged.admitted).give_up()
            known.outcome.status = 200
            known.outcome.remarks.append(f"its outcome was not told within {PROMISED_SECONDS} s and is taken for 200")
            self._record(known.judged, known.outcome, None, promised=True)

    def _inbound(self, asked: CallIn) -> InboundCall:
        at_us = self.gateway.now()
        parts = urlsplit(asked.uri if asked.uri.startswith("/") else f"/{asked.uri}")
        headers = [
            (k.lower().encode("latin-1", "replace"), v.encode("latin-1", "replace")) for k, v in asked.headers.items()
        ]
        return InboundCall(
            id=calls.new_id(at_us),
            at_us=at_us,
            method=asked.method.upper(),
            path=asked.uri.partition("?")[0],
            query=parts.query.encode("latin-1", "replace"),
            headers=headers,
            address=asked.address,
            certified=self.gateway.certificates,
        )

    def _let_through(self, judged: Judged, outcome: Outcome, promised: str) -> None:
        """Record a call whose outcome is assumed; promise to record one whose outcome is to be told."""
        if promised == "assumed":
            outcome.remarks.append("decided for a proxy; its outcome was not to be told and is taken for 200")
            self._record(judged, outcome, None)
            return
        outcome.remarks.append("decided for a proxy, which forwarded it")
        record = record_of(
            judged,
            outcome,
            metering(judged, outcome)[0],
            self.gateway.name,
            judged.call.at_us,
            snapshot=self.gateway.snapshot,
        )
        record["remarks"] = [*record["remarks"], "its outcome was lost with the gateway, and is taken for 200"]
        try:
            self.promises.make(record)
        except OSError:
            raise not_ready() from None
        self.gateway.breakers.of(judged.admitted).begin()
        self._await(judged, outcome)

    def _await(self, judged: Judged, outcome: Outcome) -> None:
        self.awaited[judged.call.id] = Awaited(time.monotonic() + PROMISED_SECONDS, judged, outcome)

    def _take_in(self, known: Awaited, told: OutcomeIn) -> None:
        judged, outcome = known.judged, known.outcome
        outcome.status, outcome.bytes_in, outcome.bytes_out = told.status, told.bytes_in, told.bytes_out
        outcome.back_end_us = told.took_ms * 1000
        lower = {k.lower(): v for k, v in told.reported.items()}
        names = [c.meter.header for c in judged.admitted.access.meters if c.meter.header]
        outcome.reported = {name: lower.get(name.lower()) for name in names}
        self.gateway.breakers.of(judged.admitted).end(told.status < 500, time.monotonic())
        self._record(judged, outcome, told, promised=True)

    def _set_aside(self, told: OutcomeIn) -> None:
        """Hand on what a repeat says of a recorded call; whoever records calls keeps what differs."""
        repeat = {
            "call_id": told.id,
            "source": self.gateway.name,
            "status": told.status,
            "bytes_in": told.bytes_in,
            "bytes_out": told.bytes_out,
            "back_end_us": told.took_ms * 1000,
        }
        try:
            self.gateway.journal.append(repeat)
        except Unwritable:
            raise not_ready("Nothing can be recorded at the moment.") from None

    def _record(self, verdict: Verdict, outcome: Outcome, told: OutcomeIn | None, promised: bool = False) -> None:
        name = verdict.call.id
        try:
            self.gateway.record(verdict, outcome)
        except Unwritable:
            if not isinstance(verdict, Judged) or not verdict.let_through:
                return
            # Kept, so that it is recorded once the journal can be written again.
            self._await(verdict, outcome)
            raise not_ready() from None
        if told is not None or name not in self.told:
            self.told[name] = told
        if promised:
            self.promises.told(name)
        if len(self.told) > REMEMBERED:
            self.told.popitem(last=False)
