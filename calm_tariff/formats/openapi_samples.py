"""A value that a schema takes, to begin a call with: what the document gives as an example where it gives one, and
otherwise the plainest that its type, format and bounds allow (JSON Schema; OpenAPI 2.0, 3.0, 3.1)."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

_DEPTH = 8
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


def sample(schema: Any, followed: Callable[[Any], dict[str, Any]], name: str = "", depth: int = 0) -> Any:
    """A value of a schema; None where nothing is known of it. `followed` gives what a schema stands for where it is a
    reference, and `name` is what a text is where nothing is said of it. What is only read is left out."""
    given = followed(schema)
    for stated in (_stated(given), *(_stated(followed(part)) for part in _listed(given.get("allOf")))):
        if stated:
            return stated[0]
    if depth >= _DEPTH:
        return None
    for key in ("oneOf", "anyOf"):
        for one in _listed(given.get(key)):
            return sample(one, followed, name, depth + 1)
    parts = [given, *(followed(part) for part in _listed(given.get("allOf")))]
    kinds = given.get("type") or next((part["type"] for part in parts if part.get("type")), None)
    kind = next((k for k in kinds if k != "null"), None) if isinstance(kinds, list) else kinds
    if kind == "object" or any(isinstance(part.get("properties"), dict) for part in parts):
        return _object(parts, followed, depth)
    if kind == "array" or "items" in given:
        each = sample(given.get("items"), followed, name, depth + 1)
        fewest = given.get("minItems")
        return [each] * max(1, fewest if isinstance(fewest, int) and fewest < 100 else 1)
    if kind == "string":
        return _string(given, name)
    if kind in ("integer", "number"):
        return _number(given, whole=kind == "integer")
    return True if kind == "boolean" else None


def _stated(schema: dict[str, Any]) -> list[Any]:
    """The value that a schema itself names, if it does."""
    for key in ("example", "default", "const"):
        if key in schema:
            return [schema[key]]
    return (_listed(schema.get("examples")) or _listed(schema.get("enum")))[:1]


def _object(parts: list[dict[str, Any]], followed: Callable[[Any], dict[str, Any]], depth: int) -> dict[str, Any]:
    """What an object must have; all that it may have where it must have nothing."""
    properties: dict[str, Any] = {}
    needed: list[Any] = []
    for part in parts:
        own = part.get("properties")
        properties |= own if isinstance(own, dict) else {}
        needed += _listed(part.get("required"))
    sent = {str(k): v for k, v in properties.items() if followed(v).get("readOnly") is not True}
    chosen = {k: v for k, v in sent.items() if k in needed} or sent
    return {k: sample(v, followed, k, depth + 1) for k, v in chosen.items()}


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


def _listed(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []
