"""Calls as an HTTP archive: each can be sent as it stands, and shows how it is answered."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import yaml

from calm_tariff.demo.load import DOCUMENTS
from calm_tariff.formats.http_archive import Sample, archive
from calm_tariff.formats.openapi_reference import Reference, reference_of

AT = datetime(2026, 9, 10, 8, tzinfo=UTC)


def entry(path: str, described: Reference | None, method: str = "GET", **headers: str) -> dict[str, Any]:
    sample = Sample(
        method=method,
        base="https://gw.example/v2",
        path=path,
        summary="Of the sea",
        described=described,
        headers=headers,
    )
    made = archive("Harbour Data", [sample], AT)["log"]
    json.dumps(made)
    assert (made["version"], made["comment"]) == ("1.2", "Harbour Data")
    # What HAR 1.2 requires of an entry, its request and its response.
    (found,) = made["entries"]
    assert {"startedDateTime", "time", "request", "response", "cache", "timings"} <= set(found)
    sent = {"method", "url", "httpVersion", "cookies", "headers", "queryString", "headersSize", "bodySize"}
    assert sent <= set(found["request"])
    came = {"status", "statusText", "httpVersion", "cookies", "headers", "content", "redirectURL", "headersSize"}
    assert came <= set(found["response"]) and {"size", "mimeType"} <= set(found["response"]["content"])
    return found


def test_a_call_has_its_documents_values_and_what_goes_with_every_call() -> None:
    document = yaml.safe_load((DOCUMENTS / "tides-v2.yaml").read_text())
    path = "/stations/{id}/extremes"
    made = entry(path, reference_of(document, "GET", path), **{"X-API-Key": "YOUR-KEY"})
    assert made["request"]["url"] == "https://gw.example/v2/stations/lm-03/extremes"  # `days` need not be said
    assert made["request"]["headers"] == [{"name": "X-API-Key", "value": "YOUR-KEY"}]
    content = made["response"]["content"]
    assert (made["response"]["status"], made["response"]["statusText"]) == (200, "OK")
    assert json.loads(content["text"])["station"] == "lm-03" and content["size"] == len(content["text"].encode())


def test_what_must_be_said_is_said_and_what_is_odd_is_encoded() -> None:
    several = {"type": "array", "items": {"type": "string"}, "example": ["high", "lo w"]}
    operation = {
        "parameters": [
            {"name": "name", "in": "path", "required": True, "schema": {"type": "string", "example": "a/b ü"}},
            {"name": "kind", "in": "query", "required": True, "schema": several},
            {"name": "X-Ship", "in": "header", "required": True, "schema": {"const": "Auk"}},
        ],
        "requestBody": {
            "content": {
                "text/csv": {"example": "a"},
                "application/json": {"schema": {"type": "object", "properties": {"n": {"type": "integer"}}}},
            }
        },
        "responses": {"default": {"description": "x"}},
    }
    described = reference_of(
        {"openapi": "3.1.0", "paths": {"/ports/{name}": {"post": operation}}}, "POST", "/ports/{name}"
    )
    made = entry("/ports/{name}", described, "POST")
    assert made["request"]["url"] == "https://gw.example/v2/ports/a%2Fb%20%C3%BC?kind=high&kind=lo+w"
    assert made["request"]["queryString"] == [{"name": "kind", "value": v} for v in ("high", "lo w")]
    assert made["request"]["postData"] == {"mimeType": "application/json", "text": '{"n":1}'}
    assert {h["name"]: h["value"] for h in made["request"]["headers"]} == {
        "X-Ship": "Auk",
        "Content-Type": "application/json",
    }
    assert made["response"]["status"] == 0  # its document does not say what comes back


def test_what_no_document_describes_is_a_call_all_the_same() -> None:
    made = entry("/stations/{id}", None)
    assert made["request"]["url"] == "https://gw.example/v2/stations/{id}" and "postData" not in made["request"]
