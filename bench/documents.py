"""Reading an OpenAPI document of 1,000 operations, beside parsing the same text and nothing more."""

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
                    "operationId": f"{method}{n}", "tags": [f"Group {n % 20}"], "summary": f"What {method} does.",
                    "description": "Words. " * 60, "responses": answers,
                }
                for method in ("get", "put", "post", "delete")
            },
        }  # fmt: skip
    things = {"Thing": {"type": "object", "properties": {f"p{n}": {"type": "string"} for n in range(50)}}}
    return {"openapi": "3.0.3", "info": {"title": "Large", "version": "1"}, "paths": paths,
            "components": {"schemas": things}}  # fmt: skip


def _seconds(work: Any) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def measure() -> dict[str, float]:
    """How many times as long reading takes as parsing alone, for JSON and for YAML."""
    whole = document()
    as_json = orjson.dumps(whole).decode()
    as_yaml = yaml.dump(whole, Dumper=yaml.CSafeDumper)
    found = {}
    for name, text, parse in (
        ("json", as_json, orjson.loads), ("yaml", as_yaml, lambda t: yaml.load(t, yaml.CSafeLoader)),
    ):  # fmt: skip
        pairs = [
            (_seconds(lambda t=text: describe(read_document(t))), _seconds(lambda t=text, p=parse: p(t)))
            for _ in range(ROUNDS)
        ]
        found[name] = median(ours / theirs for ours, theirs in pairs)
        found[f"{name}_seconds"] = median(ours for ours, _ in pairs)
    return found
