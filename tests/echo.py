"""A back end that answers with what it was sent."""

from __future__ import annotations

import gzip
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any


class Echo(BaseHTTPRequestHandler):
    """Answers with what it was sent; much, or encoded, where the query says so."""

    protocol_version = "HTTP/1.1"

    def do_POST(self) -> None:
        body = self._sent()
        if "much" in self.path:
            body = b"m" * 100_000
        self.send_response(200)
        if "packed" in self.path:
            body = gzip.compress(body)
            self.send_header("content-encoding", "gzip")
        self.send_header("content-type", "application/json")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def _sent(self) -> bytes:
        if self.headers["transfer-encoding"] != "chunked":
            return self.rfile.read(int(self.headers["content-length"] or 0))
        body = b""
        while size := int(self.rfile.readline(), 16):
            body += self.rfile.read(size)
            self.rfile.readline()
        self.rfile.readline()
        return body

    do_GET = do_PUT = do_POST  # noqa: N815

    def log_message(self, *_: Any) -> None:
        """Say nothing."""


@contextmanager
def echoing() -> Iterator[str]:
    """Such a back end, by its address."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), Echo)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()
