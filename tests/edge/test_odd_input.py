"""Whatever is sent to whichever route: it is refused in words, and nothing a caller can send answers 500."""

from __future__ import annotations

import asyncio
import json
import random
from collections.abc import Iterator
from typing import Any

import httpx
import pytest
from fastapi import FastAPI

from calm_tariff.console_api import app as console
from calm_tariff.portal_api import app as portal
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.settings import Settings
from calm_tariff.web import create_app
from tests.edge.test_isolation import body_for, lived, routes
from tests.office import PASSWORD, Office

__all__ = ["lived"]

WORDS = [
    "",
    " ",
    "-1",
    "0",
    "9" * 30,
    "x" * 5000,
    "a\r\nb",
    "a\x00b",
    "\u202e",
    "²",
    "٣",
    "NaN",
    "1e400",
    "null",
    "9999-12-31",
    "0001-01-01",
    "9999-12-31T23:59:59Z",
    "0001-01-01T00:00:00+14:00",
    "%",
    "' OR 1=1",
]
VALUES: list[Any] = [
    None,
    True,
    0,
    -1,
    2**31,
    2**63,
    2**70,
    -(2**63),
    1.5,
    1e308,
    [],
    [None],
    [-1],
    [2**70],
    {},
    {"": None},
    {"x": {"y": []}},
    "\ud800",
    *WORDS,
]
INES, FERRIES = "product@test.example", "ferries@consumer.example"
HEADERS = {"If-Match": '"1"', "content-type": "application/json"}
AT_MOST = {"console": 1500, "portal": 500}
# What streams without end, and what would sign us out.
LEFT_OUT = {
    "/bench/runs",
    "/traffic/live",
    "/session",
    "/session/demo",
    "/session/forgotten",
    "/session/reset",
    "/sign-up",
    "/sign-up/confirm",
    "/password",
}


def odd_bodies(document: dict[str, Any], body: Any) -> Iterator[Any]:
    """A body with one thing in it odd, whatever it is, two levels deep."""
    if not isinstance(body, dict):
        yield from VALUES
        return
    for name in body:
        for value in VALUES:
            yield {**body, name: value}
        if isinstance(body[name], dict):
            for inner in odd_bodies(document, body[name]):
                yield {**body, name: inner}


def whole(document: dict[str, Any], schema: dict[str, Any], depth: int = 0) -> Any:
    """A body with everything in it that a schema knows."""
    if "$ref" in schema:
        return whole(document, document["components"]["schemas"][schema["$ref"].split("/")[-1]], depth)
    for several in ("anyOf", "oneOf", "allOf"):
        if several in schema:
            return whole(document, schema[several][0], depth)
    if "enum" in schema or "const" in schema:
        return schema.get("const", (schema.get("enum") or [""])[0])
    if schema.get("type") == "object" and depth < 4:
        return {name: whole(document, part, depth + 1) for name, part in schema.get("properties", {}).items()}
    if schema.get("type") == "array" and "items" in schema and depth < 4:
        return [whole(document, schema["items"], depth + 1)]
    return {"string": "x", "integer": 1, "number": 1, "boolean": True, "array": [], "object": {}}.get(
        schema.get("type", ""), "x"
    )


STARTS = {"start": "2026-09-01", "month": "2026-11-01"}


def attempts(made: FastAPI, lived: dict[str, Any]) -> Iterator[tuple[str, str, dict[str, str], Any]]:
    """Every route with odd things in its path, its query and its body, one at a time."""
    document = made.openapi()
    for method, path in routes(made):
        if path in LEFT_OUT:
            continue
        plain = path.format(**{**lived, **STARTS})
        described = document["paths"][path][method.lower()]
        names = [p["name"] for p in described.get("parameters", []) if p["in"] == "path"]
        for name in names:
            for word in ("-1", "0", "9" * 30, "x" * 300, "%00", "²", "9999-12-31", "0001-01-01", "%20"):
                yield (
                    method,
                    path.format(**{**lived, "start": "2026-09-01", "month": "2026-11-01", name: word}),
                    {},
                    None,
                )
        for parameter in described.get("parameters", []):
            if parameter["in"] == "query":
                for word in WORDS:
                    yield method, plain, {parameter["name"]: word}, None
        content = described.get("requestBody", {}).get("content", {}).get("application/json")
        if content:
            body = whole(document, content["schema"])
            small = body_for(made, method, path, lived)
            for odd in odd_bodies(document, {**body, **small} if isinstance(small, dict) else body):
                yield method, plain, {}, odd


@pytest.mark.parametrize("which", ["console", "portal"])
def test_nothing_that_is_sent_answers_500(lived: dict[str, Any], which: str) -> None:
    office: Office = lived["office"]
    made = {"console": console, "portal": portal}[which].create_app(office.ctx, Settings())
    if which == "console":
        base, cookie = "/api/v1", {"calm_console": sessions.sign_in(office.ctx, PEOPLE, INES, PASSWORD)}
    else:
        base, cookie = "/portal/api/v1", {"calm_portal": sessions.sign_in(office.ctx, MEMBERS, FERRIES, PASSWORD)}
    # A different part of them each time would find more, and a test that fails now and then less.
    some = random.Random(8).sample(list(attempts(made, lived)), AT_MOST[which])

    async def answered() -> list[httpx.Response]:
        # In one loop and on no wire: half the time of these requests would be spent between threads.
        transport = httpx.ASGITransport(create_app(office.ctx, Settings()), raise_app_exceptions=False)
        async with httpx.AsyncClient(
            transport=transport, base_url=f"http://127.0.0.1:8400{base}", cookies=cookie, headers=HEADERS
        ) as web:
            return [
                await web.request(method, path, params=query, content=None if body is None else json.dumps(body))
                for method, path, query, body in some
            ]

    failed = []
    for (method, path, query, body), answer in zip(some, asyncio.run(answered()), strict=True):
        if answer.status_code >= 500:
            failed.append(f"{answer.status_code} {method} {path[:80]} {str(query)[:80]} {str(body)[:200]}")
        elif answer.status_code >= 400:
            assert answer.headers["content-type"] == "application/problem+json", (method, path)
    assert failed == [], f"{len(failed)} of {len(some)}"
