"""Reading OpenAPI documents of 1,000 operations and a megabyte, and of 1,221 and 13, beside parsing the same text and
nothing more."""

from __future__ import annotations

import time
from statistics import median
from typing import Any

import orjson
import yaml

from calm_tariff.formats.documents import read_document
from calm_tariff.formats.openapi import describe

ROUNDS = 5


def document() -> dict[str, Any]:
    """A thousand operations with schemas, parameters and examples: about a megabyte as JSON."""
    schema = {"$ref": "#/components/schemas/Thing"}
    answers = {"200": {"description": "fine", "content": {"application/json": {"schema": schema}}}}
    paths = {}
    for n in range(250):
        parameter = {"name": "id", "in": "path", "required": True, "schema": {"type": "string"}}
        paths[f"/things{n}/{{id}}"] = {
            "parameters": [parameter],
            **{
                method: {
                    "operationId": f"{method}{n}",
                    "tags": [f"Group {n % 20}"],
                    "summary": f"What {method} does.",
                    "description": "Words. " * 60,
                    "responses": answers,
                }
                for method in ("get", "put", "post", "delete")
            },
        }
    things = {"Thing": {"type": "object", "properties": {f"p{n}": {"type": "string"} for n in range(50)}}}
    return {
        "openapi": "3.0.3",
        "info": {"title": "Large", "version": "1"},
        "paths": paths,
        "components": {"schemas": things},
    }


def large() -> dict[str, Any]:
    """As the largest public documents are: 1,221 operations with schemas and examples of their own, 13 MB as JSON."""
    deep: dict[str, Any] = {"type": "string", "description": "Words about it.", "example": "a thing"}
    for depth in (3, 3, 4):
        deep = {"type": "object", "properties": {f"p{n}": deep for n in range(depth)}, "required": ["p0"]}
    media = {"schema": deep, "examples": {"one": {"value": [{"a": n, "b": "x" * 280} for n in range(20)]}}}
    answers = {"200": {"description": "fine", "content": {"application/json": media}}}
    paths: dict[str, Any] = {}
    for n in range(1221):
        operation = {
            "operationId": f"op{n}",
            "tags": [f"Group {n % 60}"],
            "summary": f"Does {n}.",
            "description": "Words. " * 60,
            "responses": answers,
        }
        paths.setdefault(f"/things{n // 3}", {})[("get", "put", "post")[n % 3]] = operation
    return {"openapi": "3.0.3", "info": {"title": "Very large", "version": "1"}, "paths": paths}


def _seconds(work: Any) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def measure() -> dict[str, float]:
    """How many times as long reading takes as parsing alone, for JSON and for YAML, of both documents."""
    found = {}
    for size, whole, rounds in (("", document(), ROUNDS), ("large_", large(), 3)):
        as_json = orjson.dumps(whole).decode()
        as_yaml = yaml.dump(orjson.loads(as_json), Dumper=yaml.CSafeDumper)  # each part written out, none shared
        for name, text, parse in (
            ("json", as_json, orjson.loads),
            ("yaml", as_yaml, lambda t: yaml.load(t, yaml.CSafeLoader)),
        ):
            pairs = [
                (_seconds(lambda t=text: describe(read_document(t))), _seconds(lambda t=text, p=parse: p(t)))
                for _ in range(rounds)
            ]
            found[f"{size}{name}"] = median(ours / theirs for ours, theirs in pairs)
            found[f"{size}{name}_mb"] = len(text) / 1e6
    return found
