"""The example answer that an OpenAPI document gives for an operation."""

from __future__ import annotations

import re
from dataclasses import dataclass
from time import monotonic
from typing import Any

import orjson

from calm_tariff.formats.openapi import resolve

_DEPTH = 12
# A schema that refers to others again and again can unfold without end: it is looked at so far, and no longer.
NODES = 20_000
SECONDS = 1.0
LONGEST = 200_000


_STATUS = re.compile("2[0-9][0-9]")
# RFC 9110, 8.3.1, with parameters in plain characters: what may stand in a header field.
_MEDIA_TYPE = re.compile(r"[\w!#$&^.+*-]+/[\w!#$&^.+*-]+(?:\s*;[ -~]*)?", re.ASCII)


class TooLarge(Exception):
    """The example is larger, or takes more making, than an example should."""


class _Budget:
    """What may still be looked at."""

    def __init__(self) -> None:
        self.nodes, self.until = NODES, monotonic() + SECONDS

    def spend(self) -> None:
        """One more. Raises `TooLarge`."""
        self.nodes -= 1
        if self.nodes < 0 or monotonic() > self.until:
            raise TooLarge


@dataclass(frozen=True, slots=True)
class ExampleAnswer:
    """A status, a content type and a body as text."""

    status: int
    type: str
    body: str


def example_of(document: Any, method: str, path: str) -> ExampleAnswer | None:
    """The example of an operation's first successful answer; None where the document gives none.

    Looked for in the answer's media types (3.x) or `examples` (2.0), then in the answer's schema. JSON
    is preferred over other types. Raises `TooLarge` where one would be, or would take too long to make.
    """
    item = _followed(document, (document.get("paths") or {}).get(path))
    operation = item.get(method.lower()) if item else None
    responses = operation.get("responses") if isinstance(operation, dict) else None
    if not isinstance(responses, dict):
        return None
    budget = _Budget()
    given = {str(status): answer for status, answer in responses.items()}
    for status in sorted(given):
        if status[:1] != "2" and status != "default":
            continue
        answer = _followed(document, given[status])
        if answer:
            found = _in_answer(document, answer, budget)
            if found:
                code = int(status) if _STATUS.fullmatch(status) else 200
                return ExampleAnswer(code, found[0], found[1])
    return None


def _in_answer(document: Any, answer: dict[str, Any], budget: _Budget) -> tuple[str, str] | None:
    content = answer.get("content")
    if isinstance(content, dict):
        for kind in sorted(content, key=lambda k: "json" not in k):
            media = content[kind]
            if not isinstance(media, dict) or not _MEDIA_TYPE.fullmatch(str(kind)):
                continue
            if "example" in media:
                return kind, _text(kind, media["example"])
            for named in (media.get("examples") or {}).values():
                given = _followed(document, named)
                if given and "value" in given:
                    return kind, _text(kind, given["value"])
            sample = _of_schema(document, media.get("schema"), 0, budget)
            if sample is not None:
                return kind, _text(kind, sample)
        return None
    for kind, given in (answer.get("examples") or {}).items():
        if _MEDIA_TYPE.fullmatch(str(kind)):
            return kind, _text(kind, given)
    sample = _of_schema(document, answer.get("schema"), 0, budget)
    return None if sample is None else ("application/json", _text("application/json", sample))


def _of_schema(document: Any, schema: Any, depth: int, budget: _Budget) -> Any:
    """A sample that a schema gives itself: its example, default or first choice, or those of its parts."""
    budget.spend()
    schema = _followed(document, schema)
    if schema is None or depth > _DEPTH:
        return None
    for name in ("example", "default", "const"):
        if name in schema:
            return schema[name]
    for name in ("examples", "enum"):
        if isinstance(schema.get(name), list) and schema[name]:
            return schema[name][0]
    for name in ("oneOf", "anyOf"):
        if isinstance(schema.get(name), list) and schema[name]:
            return _of_schema(document, schema[name][0], depth + 1, budget)
    if isinstance(schema.get("allOf"), list):
        merged: dict[str, Any] = {}
        for part in (*schema["allOf"], {**schema, "allOf": None}):
            sample = _of_schema(document, part, depth + 1, budget)
            merged |= sample if isinstance(sample, dict) else {}
        return merged or None
    properties = schema.get("properties")
    if isinstance(properties, dict):
        parts = {name: _of_schema(document, part, depth + 1, budget) for name, part in properties.items()}
        known = {name: part for name, part in parts.items() if part is not None}
        return known or None
    if "items" in schema:
        one = _of_schema(document, schema["items"], depth + 1, budget)
        return None if one is None else [one]
    return None


def _followed(document: Any, value: Any) -> dict[str, Any] | None:
    for _ in range(_DEPTH):
        if not (isinstance(value, dict) and isinstance(value.get("$ref"), str)):
            break
        value = resolve(document, value["$ref"])
    return value if isinstance(value, dict) else None


def _text(kind: str, value: Any) -> str:
    if isinstance(value, str) and "json" not in kind:
        text = value
    else:
        text = orjson.dumps(value, option=orjson.OPT_NON_STR_KEYS, default=str).decode()
    if len(text) > LONGEST:
        raise TooLarge
    return text
