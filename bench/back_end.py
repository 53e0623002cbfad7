"""A back end that answers at once, so that what is measured is what stands before it."""

from __future__ import annotations

import sys
from typing import Any

import uvicorn

BODY = b'{"station": "lm-01", "height_m": 2.413}'
HEADERS = [(b"content-type", b"application/json"), (b"content-length", str(len(BODY)).encode())]


async def answer(scope: dict[str, Any], receive: Any, send: Any) -> None:
    """The same small JSON for every path."""
    if scope["type"] == "http":
        await send({"type": "http.response.start", "status": 200, "headers": HEADERS})
        await send({"type": "http.response.body", "body": BODY})


if __name__ == "__main__":
    uvicorn.run(
        answer,
        host="127.0.0.1",
        port=int(sys.argv[1]),
        log_level="warning",
        access_log=False,
        lifespan="off",
        http="httptools",
        loop="uvloop",
    )
