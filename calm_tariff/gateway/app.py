"""The gateway's ASGI application: credential, access, limits, back end, meters, journal — in that order."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

from aiohttp import ClientError, ClientResponse, ClientSession

from calm_tariff.core.limiter import Decision
from calm_tariff.core.limits import TrialQuota
from calm_tariff.edge.wire import abort, hurry, unbuffered
from calm_tariff.formats import replies
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway import admission, cors, forwarding
from calm_tariff.gateway.answers import DOWN, DOWN_CODES, Send, challenge, not_ready, told_back_end
from calm_tariff.gateway.asked import Asked, call_of, record_of, settled
from calm_tariff.gateway.breaker import Breaker
from calm_tariff.gateway.counters import Counters, CountersAway, LocalCounters
from calm_tariff.gateway.credentials import Fault, without_keys
from calm_tariff.gateway.forwarding import BackEndDown, BodyTooLarge, CallerGone, Receive, Upload
from calm_tariff.gateway.journal import Journal, Unwritable
from calm_tariff.gateway.sampling import Sampling
from calm_tariff.gateway.snapshot import EMPTY, Snapshot
from calm_tariff.gateway.tally import Tally
from calm_tariff.gateway.tokens import Tokens


def now_us() -> int:
    """The present instant."""
    return time.time_ns() // 1000


@dataclass(slots=True)
class Gateway:
    """The application. `snapshot`, `counters` and `session` are put in by whoever runs it.

    `trusted` are the addresses of proxies before it, whose word on where a call came from is taken. A caller that
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
    sender_seconds: float = 30
    reader_seconds: float = 60
    breakers: dict[tuple[int, str], Breaker] = field(default_factory=dict)
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
        asked = Asked(self.now(), scope["method"], path, scope["headers"], *self._sender(scope))
        if self.snapshot.number < 0 or self.journal.fault:
            await not_ready(send)
            return
        self.tally.in_flight += 1
        try:
            await self._answer_call(asked, scope, receive, send)
        finally:
            self.tally.in_flight -= 1

    async def _answer_call(self, asked: Asked, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        query: bytes = scope["query_string"]
        asked.place = place = self.snapshot.place(asked.method, asked.path, asked.headers)
        if place is not None:
            asked.fields = cors.on_reply(place, asked.headers)
            if asked.method == "OPTIONS" and place.match.operation_id is None and not place.route.gone_at(asked.at_us):
                await self._options(asked, send)
                return
        fault = await self.admit(asked, query)
        hurry(scope, asked.identity is None)
        if fault is None:
            fault = self._open_breaker(asked)
        if fault is not None:
            await self._refuse(asked, send, fault)
            return
        fault = await self.decide(asked)
        if fault is not None:
            await self._refuse(asked, send, fault)
            return
        assert asked.decided
        if asked.verdict == "refused":
            body, headers = replies.refusal(asked.decided.decision, asked.decided.at_us)
            await self._answer(asked, send, 429, body, headers)
            return
        wait = asked.decided.decision.wait_us
        if wait:
            await asyncio.sleep(wait / 1_000_000)
        assert asked.operation_id is not None
        example = self.snapshot.example(asked.operation_id, asked.environment)
        if example is not None:
            asked.remarks.append("answered with the operation's example; no back end was asked")
            answer = example.body.encode()
            await self._answer(
                asked, send, example.status, answer, [(b"content-type", example.content_type.encode())]
            )  # fmt: skip
            return
        if not await self._forward(asked, scope, receive, send):
            await abort(scope)

    async def admit(self, asked: Asked, query: bytes) -> Fault | None:
        """Whose call it is, for which operation, under which subscription; or why it is refused."""
        fault = (
            await admission.identify(self.snapshot, self.tokens, asked, query)
            or admission.route(asked)
            or admission.find_access(self.snapshot, asked)
        )
        if fault is not None:
            asked.refused_by = fault.by
        return fault

    async def decide(self, asked: Asked) -> Fault | None:
        """Test and take the limits; a fault where counts are away, or a trial is over and nothing follows it."""
        begun = time.perf_counter_ns()
        try:
            fault = await self._decide(asked)
        except CountersAway:
            detail = "Counts cannot be read at the moment, and calls are refused rather than let through uncounted."
            return Fault(503, "counters-away", "Counts are away", detail, "counters")
        finally:
            asked.decide_us = (time.perf_counter_ns() - begun) // 1000
        if fault is not None:
            return fault
        access, place, decided = asked.access, asked.place, asked.decided
        assert access and place and decided
        decision = decided.decision
        asked.verdict, asked.refused_by = decision.verdict, decision.by
        fields = replies.rate_limit_fields(access.policies, decision, decided.at_us) + place.notices
        if access.rules.older_fields:
            fields += replies.older_fields(decision, decided.at_us)
        asked.fields = fields + asked.fields
        return None

    async def _decide(self, asked: Asked) -> Fault | None:
        """Decide under the terms in force, or, where these are a trial whose units are used, under what follows."""
        assert asked.access
        asked.call = call_of(asked, self.value_secret)
        asked.decided = await self.counters.decide(asked.access.stack, asked.call)
        if not _found_trial_spent(asked.decided.decision):
            return None
        fault = admission.after_trial(self.snapshot, asked)
        if fault is not None:
            asked.decided = None
            return fault
        return await self._decide(asked)

    def record(self, asked: Asked) -> None:
        """Meter the call, settle what was reserved, and put it into the journal; of a flood of refused callers nobody
        knows, only the first. Raises `Unwritable`."""
        if asked.identity is None and asked.verdict == "refused":
            if not self.sampling.takes(time.monotonic()):
                self.tally.count(asked)
                return
            left_out = self.sampling.told()
            if left_out:
                asked.remarks.append(left_out)
        metered = settled(asked, self.counters)
        self.journal.append(record_of(asked, self.name, metered, self.now()))
        self.tally.count(asked)

    async def _options(self, asked: Asked, send: Send) -> None:
        """A preflight, or the question what a path answers: said by the gateway, neither counted nor recorded."""
        assert asked.place
        fields = cors.preflight(asked.place, asked.headers)
        if fields is None:
            fields = [(b"allow", ", ".join(cors.methods(asked.place)).encode()), *asked.fields]
        await send({"type": "http.response.start", "status": 204, "headers": fields})
        await send({"type": "http.response.body", "body": b""})

    def _breaker(self, asked: Asked) -> Breaker:
        assert asked.place
        route, key = asked.place.route, (asked.place.route.version_id, asked.environment)
        settings = route.forwarding
        known = self.breakers.get(key)
        if (
            known is None
            or known.failures != settings.breaker_failures
            or known.seconds != settings.breaker_seconds
        ):  # fmt: skip
            known = self.breakers[key] = Breaker(settings.breaker_failures, settings.breaker_seconds)
        return known

    def _open_breaker(self, asked: Asked) -> Fault | None:
        """Refuse before anything is consumed where the back end is being left alone."""
        asked.breaker = breaker = self._breaker(asked)
        wait = breaker.wait(time.monotonic()) if breaker.in_a_row else 0
        if not wait:
            return None
        assert asked.operation_id is not None
        if self.snapshot.example(asked.operation_id, asked.environment) is not None:
            return None
        asked.refused_by = "back end"
        detail = "The back end has failed again and again and is left alone for a moment. Nothing was counted."
        fault = Fault(503, "back-end-resting", "The back end is down", detail, "back end")
        asked.fields = [*asked.fields, (b"retry-after", str(max(1, -(-int(wait * 1000) // 1000))).encode())]
        return fault

    async def _forward(self, asked: Asked, scope: dict[str, Any], receive: Receive, send: Send) -> bool:
        """Ask the back end and pass its answer back; False where the answer broke off in the middle."""
        place, access = asked.place, asked.access
        assert place and access and self.session and asked.presented
        route, query = place.route, scope["query_string"]
        if query and self.snapshot.key_queries:
            query = without_keys(query, self.snapshot.key_queries)
        base = route.sandbox_url if asked.environment == "sandbox" else route.back_end_url
        url = base.rstrip("/") + place.rest + (f"?{query.decode('latin-1')}" if query else "")
        headers = forwarding.passed_headers(
            asked.headers, self.snapshot.key_headers, asked.address, asked.peer, asked.by_proxy
        )
        login = route.sandbox_login if asked.environment == "sandbox" else route.login
        if login:
            headers.append((b"authorization", login.encode()))
        if route.forwarding.passes_caller:
            headers += told_back_end(asked)
        if forwarding.has_body(asked.headers):
            asked.upload = Upload(receive, route.forwarding.most_body_bytes, self.sender_seconds)
        breaker = asked.breaker or self._breaker(asked)
        breaker.begin()
        begun = time.perf_counter_ns()
        patience = forwarding.patience(route.forwarding)
        try:
            answer = await forwarding.ask(self.session, asked.method, url, headers, asked.upload, patience)
        except BackEndDown as down:
            asked.back_end_us = (time.perf_counter_ns() - begun) // 1000
            breaker.end(False, time.monotonic())
            await self._back_end_down(asked, send, down.status)
            return True
        except BodyTooLarge:
            breaker.end(True, time.monotonic())
            most = f"{route.name} takes bodies of up to {route.forwarding.most_body_bytes:,} bytes."
            body, fields = replies.problem(413, "Body too large", most, code="body-too-large")
            await self._answer(asked, send, 413, body, fields)
            return True
        except CallerGone:
            breaker.end(True, time.monotonic())
            asked.remarks.append("the caller hung up or stopped in the middle of the body")
            body, fields = replies.problem(408, "Body not received", "The body stopped coming.", code="body-stopped")
            await self._answer(asked, send, 408, body, fields)
            return True
        asked.back_end_us = (time.perf_counter_ns() - begun) // 1000
        breaker.end(answer.status < 500, time.monotonic())
        try:
            head = await self._pass_back(asked, answer, send)
            if head is None:
                return True
            unbuffered(scope, True)
            try:
                return await self._stream(asked, answer, head, receive, send)
            finally:
                unbuffered(scope, False)
        except Unwritable:
            if asked.started:
                return False
            await not_ready(send)
            return True
        finally:
            # Once read to its end the connection has gone back to the pool; otherwise this ends it.
            answer.close()

    async def _pass_back(self, asked: Asked, answer: ClientResponse, send: Send) -> dict[str, Any] | None:
        """Send a short answer on; the head of a long one, which is still to be streamed. The call is in the
        journal before the last byte leaves."""
        assert asked.place and asked.access
        asked.status = answer.status
        for counting in asked.access.meters:
            if counting.meter.header:
                asked.reported[counting.meter.header] = answer.headers.get(counting.meter.header)
        asked.told = {k.decode(): v.decode("latin-1") for k, v in asked.fields}
        own_cors = bool(asked.place.route.forwarding.cors_origins)
        headers = forwarding.returned_headers(answer, own_cors) + asked.fields
        length = answer.headers.get("Content-Length")
        if length is not None:
            headers.append((b"content-length", length.encode()))
        start = {"type": "http.response.start", "status": answer.status, "headers": headers}
        if asked.method == "HEAD" or (length is not None and int(length) <= forwarding.SMALL_BODY):
            try:
                body = await answer.read()
            except TimeoutError:
                await self._back_end_down(asked, send, 504)
                return None
            except (ClientError, OSError):
                await self._back_end_down(asked, send, 502)
                return None
            asked.bytes_out = len(body)
            self.record(asked)
            await send(start)
            await send({"type": "http.response.body", "body": body})
            return None
        return start

    async def _stream(
        self, asked: Asked, answer: ClientResponse, head: dict[str, Any], receive: Receive, send: Send
    ) -> bool:
        """Pass a long answer on part by part, counting what has left; the last part leaves after the record.
        False where it broke off in the middle."""
        await send(head)
        asked.started = True
        hung_up = asyncio.ensure_future(_hung_up(receive)) if asked.upload is None else None
        waiting = b""
        sent = 0
        try:
            async for chunk in answer.content.iter_any():
                if waiting:
                    if not await self._taken(send({"type": "http.response.body", "body": waiting, "more_body": True})):
                        asked.remarks.append(f"the caller took no more of the answer after {sent} bytes")
                        self.record(asked)
                        return False
                    if hung_up and hung_up.done():
                        break
                    asked.bytes_out = sent = sent + len(waiting)
                waiting = chunk
            else:
                asked.bytes_out = sent + len(waiting)
                self.record(asked)
                await send({"type": "http.response.body", "body": waiting})
                return True
        except (ClientError, OSError, TimeoutError):
            asked.remarks.append(f"the answer broke off after {sent} bytes")
            self.record(asked)
            return False
        finally:
            if hung_up:
                hung_up.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await hung_up
        asked.remarks.append(f"the caller hung up after {sent} bytes")
        self.record(asked)
        return True

    async def _taken(self, sending: Awaitable[None]) -> bool:
        """Whether the caller takes what is sent before it is given up."""
        try:
            await asyncio.wait_for(sending, self.reader_seconds)
        except TimeoutError:
            return False
        return True

    async def _back_end_down(self, asked: Asked, send: Send, status: int) -> None:
        title, detail = DOWN[status]
        body, headers = replies.problem(status, title, detail, code=DOWN_CODES[status])
        if status == 503:
            headers.append((b"retry-after", b"5"))
        await self._answer(asked, send, status, body, headers)

    async def _refuse(self, asked: Asked, send: Send, fault: Fault) -> None:
        asked.refused_by = fault.by
        body, headers = replies.problem(fault.status, fault.title, fault.detail, code=fault.code)
        headers += challenge(asked, fault)
        await self._answer(asked, send, fault.status, body, headers)

    async def _answer(self, asked: Asked, send: Send, status: int, body: bytes, headers: Headers) -> None:
        """Answer by ourselves."""
        asked.status = status
        asked.bytes_out = 0 if asked.method == "HEAD" else len(body)
        headers = headers + asked.fields
        asked.told = {k.decode(): v.decode("latin-1") for k, v in headers if k != b"content-type"}
        try:
            self.record(asked)
        except Unwritable:
            await not_ready(send)
            return
        headers = [*headers, (b"content-length", str(len(body)).encode())]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": b"" if asked.method == "HEAD" else body})

    async def health(self, path: str, send: Send) -> None:
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


def _found_trial_spent(decision: Decision) -> bool:
    """Whether what refuses a call first is a trial whose units are used."""
    refusing = next((check for check in decision.checks if check.refused), None)
    return refusing is not None and isinstance(refusing.limit, TrialQuota)


async def _hung_up(receive: Receive) -> None:
    """Return once the caller has hung up."""
    while (await receive())["type"] != "http.disconnect":
        pass
