"""A value that a schema takes, to begin a call with: what the document gives as an example where it gives one, and
otherwise the plainest that its type, format and bounds allow (JSON Schema; OpenAPI 2.0, 3.0, 3.1)."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from calm_tariff.formats.json_values import as_list, as_object

_DEPTH = 8
_MOST = 500
_OF_FORMAT = {
    "date": "2026-12-01",
    "date-time": "2026-12-01T06:00:00Z",
    "time": "06:00:00Z",
    "duration": "PT1H",
    "email": "name@office.example",
    "uri": "https://office.example/",
    "url": "https://office.example/",
    "hostname": "office.example",
    "ipv4": "192.0.2.1",
    "ipv6": "2001:db8::1",
    "uuid": "00000000-0000-4000-8000-000000000000",
}


def sample(schema: Any, followed: Callable[[Any], dict[str, Any]], name: str = "") -> Any:
    """A value of a schema; None where nothing is known of it. `followed` gives what a schema stands for where it is a
    reference, and `name` is what a text is where nothing is said of it. What is only read is left out, and so is what
    lies too deep or beyond so many values."""
    return _Maker(followed).value(schema, name, 0)


def is_file(schema: dict[str, Any]) -> bool:
    """Whether a value is bytes as they are, and no text (3.1 by JSON Schema's content keywords, before by a format)."""
    content = schema.get("contentMediaType") and not schema.get("contentEncoding")
    return bool(content) or schema.get("format") == "binary"


class _Maker:
    """A value being made, of so many parts at most: a document may refer to itself from everywhere."""

    def __init__(self, followed: Callable[[Any], dict[str, Any]]) -> None:
        self.followed = followed
        self.made = 0

    def value(self, schema: Any, name: str, depth: int) -> Any:
        self.made += 1
        given = self.followed(schema)
        several = [self.followed(part) for part in as_list(given.get("allOf"))]
        for part in (given, *several):
            stated = _stated(part)
            # One of several parts of an object says nothing of the others.
            if stated and (part is given or len(several) == 1 or not isinstance(stated[0], dict)):
                return stated[0]
        if depth >= _DEPTH or self.made > _MOST:
            return None
        for key in ("oneOf", "anyOf"):
            for one in as_list(given.get(key)):
                return self.value(one, name, depth + 1)
        parts = [given, *several]
        kinds = given.get("type") or next((part["type"] for part in parts if part.get("type")), None)
        kind = next((k for k in kinds if k != "null"), None) if isinstance(kinds, list) else kinds
        if kind == "object" or any(isinstance(part.get("properties"), dict) for part in parts):
            return self.object(parts, depth)
        if kind == "array" or "items" in given:
            fewest = given.get("minItems")
            items = max(1, fewest if isinstance(fewest, int) and fewest < _MOST else 1)
            return [self.value(given.get("items"), name, depth + 1) for _ in range(items)]
        if kind == "string":
            return _string(given, name)
        if kind in ("integer", "number"):
            return _number(given, whole=kind == "integer")
        return True if kind == "boolean" else None

    def object(self, parts: list[dict[str, Any]], depth: int) -> dict[str, Any]:
        """What an object must have; all that it may have where it must have nothing."""
        properties: dict[str, Any] = {}
        needed: list[Any] = []
        for part in parts:
            properties |= as_object(part.get("properties"))
            needed += as_list(part.get("required"))
        sent = {str(k): v for k, v in properties.items() if self.followed(v).get("readOnly") is not True}
        chosen = {k: v for k, v in sent.items() if k in needed} or sent
        return {k: self.value(v, k, depth + 1) for k, v in chosen.items()}


def _stated(schema: dict[str, Any]) -> list[Any]:
    """The value that a schema itself names, if it does."""
    for key in ("example", "default", "const"):
        if key in schema:
            return [schema[key]]
    return (as_list(schema.get("examples")) or as_list(schema.get("enum")))[:1]


def _string(given: dict[str, Any], name: str) -> str:
    text = _OF_FORMAT.get(str(given.get("format")), name or "text")
    fewest, most = given.get("minLength"), given.get("maxLength")
    if isinstance(fewest, int) and len(text) < fewest <= 1000:
        text = text.ljust(fewest, "x")
    return text[:most] if isinstance(most, int) and most > 0 else text


def _number(given: dict[str, Any], whole: bool) -> int | float:
    """One, or what its bounds leave nearest to it. Bounds that are exclusive are so by `true` (2.0, 3.0) or by
    themselves (3.1)."""
    least, above = _bound(given, "minimum"), _bound(given, "exclusiveMinimum")
    most, below = _bound(given, "maximum"), _bound(given, "exclusiveMaximum")
    if given.get("exclusiveMinimum") is True:
        least, above = None, least
    if given.get("exclusiveMaximum") is True:
        most, below = None, most
    lows = [1, *([] if least is None else [least]), *([] if above is None else [above + 1])]
    highs = [*([] if most is None else [most]), *([] if below is None else [below - 1])]
    nearest = min([max(lows), *highs])
    return math.ceil(nearest) if whole else nearest


def _bound(given: dict[str, Any], key: str) -> int | float | None:
    value = given.get(key)
    return value if isinstance(value, int | float) and not isinstance(value, bool) else None
