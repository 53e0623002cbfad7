"""The end of a call that the gateway forwards: the back end is asked, and its answer passed on."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from typing import Any

from aiohttp import ClientError, ClientResponse, ClientSession

from calm_tariff.edge.wire import unbuffered
from calm_tariff.formats import replies
from calm_tariff.formats.bodies import Beginning
from calm_tariff.formats.replies import Headers
from calm_tariff.gateway import cors
from calm_tariff.gateway.answers import DOWN, DOWN_CODES, Send, not_ready, told_back_end
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.forward import forwarding
from calm_tariff.gateway.forward.forwarding import BackEndDown, BodyTooLarge, CallerGone, Receive, Upload
from calm_tariff.gateway.recording.journal import Unwritable
from calm_tariff.gateway.recording.sent import fields as described_by
from calm_tariff.gateway.verdict.breaker import Breaker
from calm_tariff.gateway.verdict.calls import Judged, Outcome
from calm_tariff.gateway.verdict.credentials import without_keys

# Answers a call by ourselves: status, body, fields.
Answer = Callable[[int, bytes, Headers], Awaitable[None]]


@dataclass(slots=True, kw_only=True)
class Forwarder:
    """One call on its way to its back end and back. `fields` go on the answer; `record` keeps what became of the call,
    before the last byte of the answer leaves; `answer` answers by ourselves, and keeps it, too. `keeps` says whether
    the beginnings of the bodies are to be kept."""

    judged: Judged
    outcome: Outcome
    fields: Headers
    snapshot: Snapshot
    session: ClientSession
    breaker: Breaker
    scope: dict[str, Any]
    receive: Receive
    send: Send
    record: Callable[[], None]
    answer: Answer
    sender_seconds: float
    reader_seconds: float
    keeps: bool
    upload: Upload | None = None
    started: bool = field(default=False, init=False)

    async def forward(self) -> bool:
        """Ask the back end and pass its answer back; False where the answer broke off in the middle."""
        call, route = self.judged.call, self.judged.admitted.place.route
        if forwarding.has_body(call.headers):
            self.upload = Upload(self.receive, route.forwarding.most_body_bytes, self.sender_seconds)
            if self.keeps:
                self.upload.kept = self.outcome.sent_body = Beginning()
                self.outcome.sent_fields = described_by(call.headers)
        self.breaker.begin()
        begun = time.perf_counter_ns()
        try:
            answer = await forwarding.ask(
                self.session,
                call.method,
                self._url(),
                self._headers(),
                upload=self.upload,
                timeout=forwarding.patience(route.forwarding),
            )
        except BackEndDown as down:
            self.outcome.back_end_us = (time.perf_counter_ns() - begun) // 1000
            self.breaker.end(False, time.monotonic())
            await self._down(down.status)
            return True
        except BodyTooLarge:
            self.breaker.end(True, time.monotonic())
            most = f"{route.name} takes bodies of up to {route.forwarding.most_body_bytes:,} bytes."
            await self._say(413, *replies.problem(413, "Body too large", most, code="body-too-large"))
            return True
        except CallerGone:
            self.breaker.end(True, time.monotonic())
            self.outcome.remarks.append("the caller hung up or stopped in the middle of the body")
            words = "The body stopped coming."
            await self._say(408, *replies.problem(408, "Body not received", words, code="body-stopped"))
            return True
        self.outcome.back_end_us = (time.perf_counter_ns() - begun) // 1000
        self.breaker.end(answer.status < 500, time.monotonic())
        try:
            head = await self._pass_back(answer)
            if head is None:
                return True
            unbuffered(self.scope, True)
            try:
                return await self._stream(answer, head)
            finally:
                unbuffered(self.scope, False)
        except Unwritable:
            if self.started:
                return False
            await not_ready(self.send)
            return True
        finally:
            # Once read to its end the connection has gone back to the pool; otherwise this ends it.
            answer.close()

    def _url(self) -> str:
        admitted = self.judged.admitted
        route, query = admitted.place.route, admitted.call.query
        if query and self.snapshot.key_queries:
            query = without_keys(query, self.snapshot.key_queries)
        base = route.sandbox_url if admitted.environment == "sandbox" else route.back_end_url
        return base.rstrip("/") + admitted.place.rest + (f"?{query.decode('latin-1')}" if query else "")

    def _headers(self) -> Headers:
        admitted, call = self.judged.admitted, self.judged.call
        route = admitted.place.route
        headers = forwarding.passed_headers(
            call.headers, self.snapshot.key_headers, call.address, call.peer, call.by_proxy
        )
        login = route.sandbox_login if admitted.environment == "sandbox" else route.login
        if login:
            headers.append((b"authorization", login.encode()))
        if route.forwarding.passes_caller:
            headers += told_back_end(admitted)
        return headers

    async def _pass_back(self, answer: ClientResponse) -> dict[str, Any] | None:
        """Send a short answer on; the head of a long one, which is still to be streamed. The call is in the
        journal before the last byte leaves."""
        admitted, outcome = self.judged.admitted, self.outcome
        outcome.status = answer.status
        for counting in admitted.access.meters:
            if counting.meter.header:
                outcome.reported[counting.meter.header] = answer.headers.get(counting.meter.header)
        outcome.told = {k.decode(): v.decode("latin-1") for k, v in self.fields}
        own_cors = cors.answered_here(admitted.place, self.judged.call.headers)
        headers = forwarding.returned_headers(answer, own_cors) + self.fields
        if self.keeps:
            outcome.answered_body, outcome.answered_fields = Beginning(), described_by(headers)
        length = answer.headers.get("Content-Length")
        if length is not None:
            headers.append((b"content-length", length.encode()))
        start = {"type": "http.response.start", "status": answer.status, "headers": headers}
        if self.judged.call.method == "HEAD" or (length is not None and int(length) <= forwarding.SMALL_BODY):
            try:
                body = await answer.read()
            except TimeoutError:
                await self._down(504)
                return None
            except (ClientError, OSError):
                await self._down(502)
                return None
            outcome.bytes_out = len(body)
            self._see(body)
            self._keep()
            await self.send(start)
            await self.send({"type": "http.response.body", "body": body})
            return None
        return start

    async def _stream(self, answer: ClientResponse, head: dict[str, Any]) -> bool:
        """Pass a long answer on part by part, counting what has left; the last part leaves after the record.
        False where it broke off in the middle."""
        await self.send(head)
        self.started = True
        outcome = self.outcome
        hung_up = asyncio.ensure_future(_hung_up(self.receive)) if self.upload is None else None
        waiting = b""
        sent = 0
        try:
            async for chunk in answer.content.iter_any():
                self._see(chunk)
                if waiting:
                    if not await self._taken(waiting):
                        outcome.remarks.append(f"the caller took no more of the answer after {sent} bytes")
                        self._keep()
                        return False
                    if hung_up and hung_up.done():
                        break
                    outcome.bytes_out = sent = sent + len(waiting)
                waiting = chunk
            else:
                outcome.bytes_out = sent + len(waiting)
                self._keep()
                await self.send({"type": "http.response.body", "body": waiting})
                return True
        except (ClientError, OSError, TimeoutError):
            outcome.remarks.append(f"the answer broke off after {sent} bytes")
            self._keep()
            return False
        finally:
            if hung_up:
                hung_up.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await hung_up
        outcome.remarks.append(f"the caller hung up after {sent} bytes")
        self._keep()
        return True

    def _see(self, part: bytes) -> None:
        """Keep the beginning of the answer, where that is to be kept."""
        if self.outcome.answered_body is not None:
            self.outcome.answered_body.take(part)

    async def _taken(self, part: bytes) -> bool:
        """Whether the caller takes a part that is sent before it is given up."""
        sending = self.send({"type": "http.response.body", "body": part, "more_body": True})
        try:
            async with asyncio.timeout(self.reader_seconds):
                await sending
        except TimeoutError:
            return False
        return True

    async def _down(self, status: int) -> None:
        title, detail = DOWN[status]
        body, headers = replies.problem(status, title, detail, code=DOWN_CODES[status])
        if status == 503:
            headers.append((b"retry-after", b"5"))
        await self._say(status, body, headers)

    async def _say(self, status: int, body: bytes, headers: Headers) -> None:
        self._count_upload()
        await self.answer(status, body, headers)

    def _keep(self) -> None:
        self._count_upload()
        self.record()

    def _count_upload(self) -> None:
        if self.upload is not None:
            self.outcome.bytes_in = self.upload.size


async def _hung_up(receive: Receive) -> None:
    """Return once the caller has hung up."""
    while (await receive())["type"] != "http.disconnect":
        pass
