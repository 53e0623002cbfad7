"""The gateway's ASGI application: credential, access, limits, back end, meters, journal — in that order."""

from __future__ import annotations

import asyncio
import hashlib
import os
import time
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from aiohttp import ClientError, ClientResponse, ClientSession

from calm_tariff.core.ids import call_id
from calm_tariff.core.limiter import Clock, Decision
from calm_tariff.core.limits import Call, Units
from calm_tariff.core.meters import Environment, Outcome, covers, reading
from calm_tariff.formats.journal import rungs
from calm_tariff.gateway import forwarding, told
from calm_tariff.gateway.forwarding import BackEndDown, Headers, Receive, Upload
from calm_tariff.gateway.journal import Journal, Unwritable
from calm_tariff.gateway.routing import has_dot_segments
from calm_tariff.gateway.snapshot import EMPTY, Access, Place, Snapshot
from calm_tariff.services.gateway_feed import Credential

Send = Callable[[dict[str, Any]], Any]


def now_us() -> int:
    """The present instant."""
    return time.time_ns() // 1000


@dataclass(slots=True)
class Asked:
    """One call as far as it has come: what is known of it goes into the journal."""

    at_us: int
    method: str
    path: str
    credential: Credential | None = None
    place: Place | None = None
    access: Access | None = None
    call: Call | None = None
    decision: Decision | None = None
    upload: Upload | None = None
    status: int = 0
    bytes_out: int = 0
    verdict: str = "refused"
    refused_by: str | None = None
    started: bool = False
    told: dict[str, str] = field(default_factory=dict)
    reported: dict[str, str | None] = field(default_factory=dict)


@dataclass(slots=True)
class Gateway:
    """The application. `snapshot` and `counts` are put in by whoever runs it."""

    journal: Journal
    name: str = "gateway-1"
    snapshot: Snapshot = EMPTY
    counts: dict[tuple[str, str], Any] = field(default_factory=dict)
    clock: Clock = field(default_factory=Clock)
    session: ClientSession | None = None

    async def __call__(self, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        """Answer one HTTP call."""
        if scope["type"] != "http":
            return
        raw_path = scope["raw_path"].decode("latin-1")
        if raw_path in ("/healthz", "/readyz"):
            await self._health(raw_path, send)
            return
        asked = Asked(now_us(), scope["method"], raw_path)
        if self.snapshot.number < 0 or self.journal.fault:
            await _not_ready(send)
            return
        refusal = self._admit(asked, scope["headers"])
        if refusal is not None:
            await self._refuse(asked, send, *refusal)
            return
        await self._decide(asked, scope, receive, send)

    def _admit(self, asked: Asked, headers: Headers) -> tuple[int, str, str] | None:
        """Credential, route and access. The refusal as (status, title, detail), or None."""
        secret = _secret(headers)
        if secret is None:
            asked.refused_by = "credential"
            return 401, "No credential", "Send the key as X-API-Key, or as a bearer token in Authorization."
        snapshot = self.snapshot
        asked.credential = snapshot.credentials.get(hashlib.sha256(secret).hexdigest())
        if asked.credential is None:
            asked.refused_by = "credential"
            return 401, "Unknown credential", "The key is unknown, revoked or expired."
        if has_dot_segments(asked.path):
            asked.refused_by = "route"
            return 400, "Not a plain path", "The path has . or .. segments."
        asked.place = snapshot.place(asked.method, asked.path, headers)
        if asked.place is None:
            asked.refused_by = "route"
            return 404, "No such operation", f"No API answers {asked.method} {asked.path} here."
        if asked.place.route.gone:
            asked.refused_by = "route"
            return 410, "Gone", f"{asked.place.route.name} answers no more."
        operation = asked.place.match.operation_id
        if operation is None:
            asked.refused_by = "route"
            return 405, "Not with this method", f"This path answers {', '.join(asked.place.match.methods)}."
        environment = asked.credential.environment
        asked.access = snapshot.access.get((asked.credential.application_id, operation, environment))
        if asked.access is None:
            asked.refused_by = "access"
            return 403, "Not part of a plan", "The key is good, but no active subscription covers this operation."
        if environment == "sandbox" and not asked.place.route.sandbox_url:
            asked.refused_by = "access"
            return 403, "No sandbox", f"{asked.place.route.name} has no sandbox. Call it with a live key."
        return None

    async def _decide(self, asked: Asked, scope: dict[str, Any], receive: Receive, send: Send) -> None:
        access, credential = asked.access, asked.credential
        assert access and credential
        asked.call = Call(
            at_us=asked.at_us,
            key=str(credential.key_id),
            application=str(credential.application_id),
            consumer=str(credential.consumer_id),
            subscription=str(access.grant.subscription_id),
            operation=access.operation,
            units=access.reserves,
            settles=access.settles,
        )
        decision = asked.decision = access.stack.decide(asked.call, self.counts, self.clock)
        asked.verdict = decision.verdict
        assert asked.place
        fields = told.rate_limit_fields(access.policies, decision, self.clock.last) + asked.place.notices
        if decision.verdict == "refused":
            asked.refused_by = decision.by
            body, headers = told.refusal(decision, self.clock.last)
            await self._answer(asked, send, 429, body, headers + fields)
            return
        if decision.wait_us:
            await asyncio.sleep(decision.wait_us / 1_000_000)
        await self._forward(asked, scope, receive, send, fields)

    async def _forward(
        self, asked: Asked, scope: dict[str, Any], receive: Receive, send: Send, fields: Headers
    ) -> None:
        assert asked.place and self.session
        headers: Headers = scope["headers"]
        query = scope["query_string"].decode("latin-1")
        route = asked.place.route
        sandbox = asked.credential is not None and asked.credential.environment == "sandbox"
        url = (
            (route.sandbox_url if sandbox else route.back_end_url).rstrip("/")
            + asked.place.rest
            + (f"?{query}" if query else "")
        )
        if forwarding.has_body(headers):
            asked.upload = Upload(receive)
        try:
            answer = await forwarding.ask(self.session, asked.method, url, headers, asked.upload)
        except BackEndDown as down:
            await self._back_end_down(asked, send, down, fields)
            return
        try:
            await self._pass_back(asked, answer, send, fields)
        except Unwritable:
            if asked.started:
                raise
            await _not_ready(send)
        finally:
            # Once read to its end the connection has gone back to the pool; otherwise this ends it.
            answer.close()

    async def _pass_back(self, asked: Asked, answer: ClientResponse, send: Send, fields: Headers) -> None:
        """Send the answer on. The call is in the journal before the last byte leaves."""
        asked.status = answer.status
        if asked.access:
            for counting in asked.access.meters:
                if counting.meter.header:
                    asked.reported[counting.meter.header] = answer.headers.get(counting.meter.header)
        asked.told = {k.decode(): v.decode() for k, v in fields}
        headers = forwarding.returned_headers(answer) + fields
        length = answer.headers.get("Content-Length")
        if length is not None:
            headers.append((b"content-length", length.encode()))
        start = {"type": "http.response.start", "status": answer.status, "headers": headers}
        try:
            if length is not None and int(length) <= forwarding.SMALL_BODY:
                body = await answer.read()
                asked.bytes_out = len(body)
                self._record(asked)
                await send(start)
                await send({"type": "http.response.body", "body": body})
                return
            await send(start)
            asked.started = True
            waiting = b""
            async for chunk in answer.content.iter_any():
                if waiting:
                    await send({"type": "http.response.body", "body": waiting, "more_body": True})
                asked.bytes_out += len(chunk)
                waiting = chunk
        except (ClientError, OSError):
            if not asked.bytes_out and length is not None and int(length) <= forwarding.SMALL_BODY:
                await self._back_end_down(asked, send, BackEndDown(False), fields)
                return
            self._record(asked)
            raise
        self._record(asked)
        await send({"type": "http.response.body", "body": waiting})

    async def _back_end_down(self, asked: Asked, send: Send, down: BackEndDown, fields: Headers) -> None:
        body, headers = told.problem(
            504 if down.timed_out else 503,
            "The back end is down",
            "The call was let through, but the back end did not answer. Try again shortly.",
        )
        if not down.timed_out:
            headers.append((b"retry-after", b"5"))
        await self._answer(asked, send, 504 if down.timed_out else 503, body, headers + fields)

    async def _refuse(self, asked: Asked, send: Send, status: int, title: str, detail: str) -> None:
        body, headers = told.problem(status, title, detail)
        if status == 401:
            headers.append((b"www-authenticate", b'Bearer realm="api"'))
        if status == 405 and asked.place:
            headers.append((b"allow", ", ".join(asked.place.match.methods).encode()))
        await self._answer(asked, send, status, body, headers)

    async def _answer(self, asked: Asked, send: Send, status: int, body: bytes, headers: Headers) -> None:
        asked.status, asked.bytes_out = status, len(body)
        asked.told = {k.decode(): v.decode() for k, v in headers if k != b"content-type"}
        try:
            self._record(asked)
        except Unwritable:
            await _not_ready(send)
            return
        headers = [*headers, (b"content-length", str(len(body)).encode())]
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": b"" if asked.method == "HEAD" else body})

    def _record(self, asked: Asked) -> None:
        """Meter the call, settle what was reserved, and put it into the journal."""
        units = self._settled(asked)
        grant = asked.access.grant if asked.access else None
        credential, place, decision = asked.credential, asked.place, asked.decision
        self.journal.append(
            {
                "call_id": call_id(asked.at_us, int.from_bytes(os.urandom(10), "big")),
                "at_us": asked.at_us,
                "source": self.name,
                "environment": credential.environment if credential else "live",
                "verdict": asked.verdict,
                "refused_by": asked.refused_by,
                "status": asked.status,
                "wait_us": decision.wait_us if decision else 0,
                "took_us": now_us() - asked.at_us,
                "retry_after_us": decision.retry_after_us if decision else None,
                "bytes_in": asked.upload.size if asked.upload else 0,
                "bytes_out": asked.bytes_out,
                "method": asked.method[:10],
                "path": asked.path[:400],
                "operation_id": place.match.operation_id if place else None,
                "api_version_id": place.route.version_id if place else None,
                "product_id": grant.product_id if grant else None,
                "revision_id": grant.revision_id if grant else None,
                "stay_id": grant.stay_id if grant else None,
                "subscription_id": grant.subscription_id if grant else None,
                "application_id": credential.application_id if credential else None,
                "consumer_id": credential.consumer_id if credential else None,
                "key_id": credential.key_id if credential else None,
                "checks": rungs(decision, asked.access.house) if decision and asked.access else [],
                "units": units,
                "told": asked.told,
            }
        )

    def _settled(self, asked: Asked) -> dict[str, str]:
        """Units by meter id of a served call, with the quotas put right by them."""
        access, call = asked.access, asked.call
        if access is None or call is None or asked.verdict == "refused":
            return {}
        sandbox = asked.credential is not None and asked.credential.environment == "sandbox"
        environment: Environment = "sandbox" if sandbox else "live"
        units: dict[str, str] = {}
        outcome = Outcome(
            operation=access.operation,
            status=asked.status,
            bytes_in=asked.upload.size if asked.upload else 0,
            bytes_out=asked.bytes_out,
            environment=environment,
        )
        for counting in access.meters:
            header = counting.meter.header
            read = reading(
                counting.meter, outcome if header is None else replace(outcome, reported=asked.reported.get(header))
            )
            if read is not None:
                units[str(counting.meter_id)] = str(read.units)
            if access.settles and covers(counting.meter, access.operation, environment):
                access.stack.settle(call, _exact(read.units) if read else 0, self.counts, counting.meter.key)
        return units

    async def _health(self, path: str, send: Send) -> None:
        ready = self.snapshot.number >= 0 and not self.journal.fault
        status = 200 if ready or path == "/healthz" else 503
        body, headers = told.problem(
            status, "Ready" if ready else "Not ready", self.journal.fault or "", snapshot=self.snapshot.number
        )
        await send({"type": "http.response.start", "status": status, "headers": headers})
        await send({"type": "http.response.body", "body": body})


def _exact(units: Decimal) -> Units:
    """Whole units as an integer, so that counts stay integers wherever they can."""
    whole = int(units)
    return whole if whole == units else units


def _secret(headers: Headers) -> bytes | None:
    bearer = None
    for name, value in headers:
        if name == b"x-api-key":
            return value.strip()
        if name == b"authorization" and value[:7].lower() == b"bearer ":
            bearer = value[7:].strip()
    return bearer


async def _not_ready(send: Send) -> None:
    body, headers = told.problem(503, "Not ready", "The gateway cannot record calls now, so it serves none.")
    headers += [(b"retry-after", b"5"), (b"content-length", str(len(body)).encode())]
    await send({"type": "http.response.start", "status": 503, "headers": headers})
    await send({"type": "http.response.body", "body": body})
