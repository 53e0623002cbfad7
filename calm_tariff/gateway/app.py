"""The gateway's ASGI application: a call comes in, is judged, forwarded or refused, and recorded."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from typing import Any

from aiohttp import ClientSession

from calm_tariff.edge.wire import abort, hurry
from calm_tariff.formats import replies
from calm_tariff.formats.bodies import Beginning
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway import cors
from calm_tariff.gateway.answers import Send, challenge, not_ready
from calm_tariff.gateway.compiled.snapshot import EMPTY, Place, Snapshot
from calm_tariff.gateway.counts.counters import Counters, LocalCounters
from calm_tariff.gateway.forward.forwarder import Forwarder
from calm_tariff.gateway.forward.forwarding import Receive
from calm_tariff.gateway.recording.journal import Journal, Unwritable
from calm_tariff.gateway.recording.records import record_of, settled
from calm_tariff.gateway.recording.sampling import Sampling
from calm_tariff.gateway.recording.sent import fields as described_by
from calm_tariff.gateway.recording.sent import keeps_bodies
from calm_tariff.gateway.tally import Tally
from calm_tariff.gateway.verdict import calls, judging
from calm_tariff.gateway.verdict.breaker import Breakers
from calm_tariff.gateway.verdict.calls import InboundCall, Judged, Located, Outcome, Refused, Verdict
from calm_tariff.gateway.verdict.credentials import WITHOUT
from calm_tariff.gateway.verdict.tokens import Tokens


def now_us() -> int:
    """The present instant."""
    return time.time_ns() // 1000


@dataclass(slots=True)
class Gateway:
    """The application. `snapshot`, `counters` and `session` are put in by whoever runs it.

    `trusted` are the addresses of proxies before it, whose word on where a call came from is taken; with
    `certificates` also on the client certificate it was made with (RFC 9440). A caller that
    sends nothing of its body for `sender_seconds`, or takes nothing of its answer for `reader_seconds`, is given up.
    With `value_secret` the values that calls are counted by are hashed, before they are counted or recorded.
    `fresh_at` is when the snapshot was last known to be the newest, by the monotonic clock.
    """

    journal: Journal
    name: str = "gateway-1"
    snapshot: Snapshot = EMPTY
    counters: Counters = field(default_factory=LocalCounters)
    tokens: Tokens = field(default_factory=lambda: Tokens(""))
    tally: Tally = field(default_factory=Tally)
    session: ClientSession | None = None
    trusted: frozenset[str] = frozenset()
    certificates: bool = False
    sender_seconds: float = 30
    reader_seconds: float = 60
    breakers: Breakers = field(default_factory=Breakers)
    fresh_at: float = 0.0
    value_secret: bytes = b""
    sampling: Sampling = field(default_factory=Sampling)
    now: Callable[[], int] = now_us

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        """Answer one HTTP call."""
        if scope["type"] != "http":
            return
        path = scope["raw_path"].decode("latin-1")
        if path in ("/healthz", "/readyz"):
            await self.health(path, send)
            return
        at_us = self.now()
        if self.snapshot.number < 0 or self.journal.fault:
            await not_ready(send)
            return
        address, peer, by_proxy = self._sender(scope)
        call = InboundCall(
            id=calls.new_id(at_us),
            at_us=at_us,
            method=scope["method"],
            path=path,
            query=scope["query_string"],
            headers=scope["headers"],
            address=address,
            peer=peer,
            by_proxy=by_proxy,
            certified=by_proxy and self.certificates,
        )
        self.tally.in_flight += 1
        try:
            await self._answer_call(judging.locate(self, call), scope, receive, send)
        finally:
            self.tally.in_flight -= 1

    async def _answer_call(self, located: Located, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        call, place = located
        if place is not None and _is_a_question(call, place):
            await _say_options(call, place, send)
            return
        verdict = await judging.judge(self, located)
        hurry(scope, calls.identified(verdict) is None)
        told: Headers = [(b"call-id", call.id.encode()), *cors.on_reply(place, call.headers)]
        outcome, fields = Outcome(), judging.reply_fields(verdict) + told
        answer = partial(self._answer, verdict, outcome, fields, send)
        if isinstance(verdict, Refused):
            fault = verdict.fault
            body, headers = replies.problem(fault.status, fault.title, fault.detail, code=fault.code)
            await answer(fault.status, body, headers + challenge(verdict))
            return
        if not verdict.let_through:
            await answer(429, *replies.refusal(verdict.decided.decision, verdict.decided.at_us))
            return
        wait = verdict.decided.decision.wait_us
        if wait:
            await asyncio.sleep(wait / 1_000_000)
        admitted = verdict.admitted
        example = self.snapshot.example(admitted.routed.operation_id, admitted.environment)
        if example is not None:
            outcome.remarks.append("answered with the operation's example; no back end was asked")
            await answer(example.status, example.body.encode(), [(b"content-type", example.content_type.encode())])
            return
        assert self.session is not None  # put in by whoever runs it
        forwarder = Forwarder(
            judged=verdict,
            outcome=outcome,
            fields=fields,
            snapshot=self.snapshot,
            session=self.session,
            breaker=self.breakers.of(admitted),
            scope=scope,
            receive=receive,
            send=send,
            record=partial(self.record, verdict, outcome),
            answer=answer,
            sender_seconds=self.sender_seconds,
            reader_seconds=self.reader_seconds,
            keeps=keeps_bodies(verdict),
        )
        if not await forwarder.forward():
            await abort(scope)

    def record(self, verdict: Verdict, outcome: Outcome) -> None:
        """Meter the call, settle what was reserved, and put it into the journal; of a flood of refused callers nobody
        knows, only the first. Raises `Unwritable`."""
        if _is_strangers_refusal(verdict):
            if not self.sampling.takes(time.monotonic()):
                self.tally.count(verdict, outcome.status)
                return
            left_out = self.sampling.told()
            if left_out:
                outcome.remarks.append(left_out)
        metered = settled(verdict, outcome, self.counters)
        self.journal.append(record_of(verdict, outcome, metered, self.name, self.now(), snapshot=self.snapshot))
        self.tally.count(verdict, outcome.status)

    async def _answer(
        self,
        verdict: Verdict,
        outcome: Outcome,
        fields: Headers,
        send: Send,
        status: int,
        body: bytes,
        headers: Headers,
    ) -> None:
        """Answer by ourselves."""
        head = verdict.call.method == "HEAD"
        outcome.status, outcome.bytes_out = status, 0 if head else len(body)
        headers = headers + fields
        outcome.tells(headers)
        if keeps_bodies(verdict) and not head:
            outcome.answered_body, outcome.answered_fields = Beginning(), described_by(headers)
            outcome.answered_body.take(body)
        try:
            self.record(verdict, outcome)
        except Unwritable:
            await not_ready(send)
            return
        headers = [*headers, (b"content-length", str(len(body)).encode())]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": b"" if head else body})

    async def health(self, path: str, send: Send) -> None:
        """Whether the process is there (`/healthz`), and whether it serves (`/readyz`)."""
        ready = self.snapshot.number >= 0 and not self.journal.fault
        status = 200 if ready or path == "/healthz" else 503
        body, headers = replies.problem(
            status, "Ready" if ready else "Not ready", self.journal.fault or "", snapshot=self.snapshot.number
        )
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": body})

    def _sender(self, scope: dict[str, Any]) -> tuple[str, str, bool]:
        """Where the call came from (the first address, from our side, that is no trusted proxy's), who sent it to
        us, and whether that was such a proxy."""
        client = scope.get("client")
        address = peer = str(client[0]) if client else ""
        if address not in self.trusted:
            return address, peer, False
        way = [v.decode("latin-1") for k, v in scope["headers"] if k == b"x-forwarded-for"]
        for each in reversed([part.strip() for part in ",".join(way).split(",") if part.strip()]):
            address = each
            if each not in self.trusted:
                break
        return address, peer, True


def _is_a_question(call: InboundCall, place: Place) -> bool:
    """Whether a call asks what a path answers, which no operation of it does."""
    return call.method == "OPTIONS" and place.match.operation_id is None and not place.route.gone_at(call.at_us)


async def _say_options(call: InboundCall, place: Place, send: Send) -> None:
    """A preflight, or the question what a path answers: said by the gateway, neither counted nor recorded."""
    fields = cors.preflight(place, call.headers)
    if fields is None:
        fields = [(b"allow", ", ".join(cors.methods(place)).encode()), *cors.on_reply(place, call.headers)]
    await send({"type": "http.response.start", "status": 204, "headers": fields})
    await send({"type": "http.response.body", "body": b""})


def _is_strangers_refusal(verdict: Verdict) -> bool:
    """Whether a call was refused that costs its caller nothing: of somebody unknown, or without a credential."""
    known = calls.identified(verdict)
    let_through = isinstance(verdict, Judged) and verdict.let_through
    return not let_through and (known is None or known.identity.kind == WITHOUT.kind)
