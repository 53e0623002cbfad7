"""A back end that does odd things on the wire, for what a well-behaved one cannot show."""

from __future__ import annotations

import json
import socket
import socketserver
import threading
import time
from typing import Any

MEGABYTE = b"x" * 1_000_000
# Where its APIs lie. Only the worker asks this itself: operations have a path behind it.
DEEP = "/deep"


class OddBackEnd(socketserver.ThreadingTCPServer):
    """Answers by the last segment of the path; keeps what callers asked of it, and the worker's checks of its health,
    which come whenever they come, apart."""

    daemon_threads = True
    allow_reuse_address = True

    def __init__(self) -> None:
        super().__init__(("127.0.0.1", 0), _Handler)
        self.asked: list[dict[str, Any]] = []
        self.checks: list[dict[str, Any]] = []
        self.failing = False
        threading.Thread(target=self.serve_forever, daemon=True).start()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.server_address[1]}"

    @property
    def deep(self) -> str:
        return self.url + DEEP


class _Handler(socketserver.StreamRequestHandler):
    server: OddBackEnd

    def handle(self) -> None:
        while line := self.rfile.readline():
            method, target, _ = line.decode("latin-1").split(" ")
            headers = {}
            while (raw := self.rfile.readline()) not in (b"\r\n", b""):
                name, _, value = raw.decode("latin-1").partition(":")
                headers[name.lower()] = value.strip()
            asked: dict[str, Any] = {"method": method, "target": target, "headers": headers, "body": 0}
            (self.server.checks if target == DEEP else self.server.asked).append(asked)
            what = target.split("?")[0].rsplit("/", 1)[-1]
            if what == "early":  # answers before it has read the body
                self.wfile.write(b"HTTP/1.1 400 No\r\nContent-Length: 0\r\nConnection: close\r\n\r\n")
                return
            self.read_body(headers, asked)
            if not self.answer(method, what, asked):
                return

    def read_body(self, headers: dict[str, str], asked: dict[str, Any]) -> None:
        if headers.get("transfer-encoding") == "chunked":
            while size := int(self.rfile.readline(), 16):
                self.rfile.read(size + 2)
                asked["body"] += size
            self.rfile.readline()
        elif "content-length" in headers:
            asked["body"] = len(self.rfile.read(int(headers["content-length"])))

    def answer(self, method: str, what: str, asked: dict[str, Any]) -> bool:
        send = self.wfile.write
        if self.server.failing or what == "fails":
            send(b"HTTP/1.1 500 Oh\r\nContent-Length: 0\r\n\r\n")
        elif what == "nonsense":
            send(b"this is no HTTP\r\n\r\n")
            return False
        elif what == "breaks":
            send(b"HTTP/1.1 200 OK\r\nContent-Length: 500000\r\n\r\n" + b"y" * 1000)
            self.connection.shutdown(socket.SHUT_RDWR)
            return False
        elif what == "slow":
            time.sleep(4)
            send(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
        elif what == "large":  # 40 MB, in parts
            send(b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n")
            try:
                for _ in range(40):
                    send(b"%x\r\n%b\r\n" % (len(MEGABYTE), MEGABYTE))
                send(b"0\r\n\r\n")
            except OSError:
                return False
        elif what == "cells":
            send(b"HTTP/1.1 200 OK\r\nX-Cells: 2.5\r\nConnection: x-own\r\nX-Own: 1\r\nContent-Length: 2\r\n\r\nok")
        else:
            body = json.dumps({"asked": asked}).encode()
            head = (
                b"HTTP/1.1 200 OK\r\nAccess-Control-Allow-Origin: https://wrong.example\r\nContent-Length: %d\r\n\r\n"
            )
            send(head % len(body) + (b"" if method == "HEAD" else body))
        return True
