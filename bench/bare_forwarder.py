"""The baseline of the gateway: a forwarder on the same server and client packages that decides nothing
and records nothing."""

from __future__ import annotations

import sys
from typing import Any

import uvicorn
from aiohttp import ClientSession, DummyCookieJar, TCPConnector
from yarl import URL


class BareForwarder:
    """Ask the back end, hand back the answer."""

    def __init__(self, back_end: str) -> None:
        self.back_end = back_end
        self.session: ClientSession | None = None

    async def __call__(self, scope: dict[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        if self.session is None:
            self.session = ClientSession(connector=TCPConnector(limit=0), cookie_jar=DummyCookieJar())
        headers = [(k.decode(), v.decode()) for k, v in scope["headers"] if k not in (b"host", b"content-length")]
        url = URL(self.back_end + scope["raw_path"].decode(), encoded=True)
        async with self.session.request(scope["method"], url, headers=headers) as answer:
            body = await answer.read()
        passed = [(k.lower(), v) for k, v in answer.raw_headers if k.lower() != b"transfer-encoding"]
        await send({"type": "http.response.start", "status": answer.status, "headers": passed})
        await send({"type": "http.response.body", "body": body})


if __name__ == "__main__":
    uvicorn.run(
        BareForwarder(sys.argv[2]),
        host="127.0.0.1",
        port=int(sys.argv[1]),
        log_level="warning",
        access_log=False,
        lifespan="off",
        http="httptools",
        loop="uvloop",
    )
