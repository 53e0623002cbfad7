"""JSON to the core's immutable values and back, exactly, naming the field that is wrong.

Decimals are JSON strings (or whole numbers), dates and moments are ISO 8601. A field that the value
does not have is refused, so that a misspelt one is never silently left out. One whose name is a word of Python's own,
as `for_`, is `for` in JSON.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from dataclasses import fields, is_dataclass
from datetime import date, datetime
from decimal import Decimal
from functools import cache
from typing import Any, TypeVar, cast

from pydantic import ConfigDict, TypeAdapter, ValidationError
from pydantic_core import ErrorDetails

from calm_tariff.core.errors import Invalid

T = TypeVar("T")

# The fields that say which of several types a value is of.
TAGS = ("kind", "model")
# What a value must be, by how the library names a refusal of it.
MUST_BE = {
    "string": "text",
    "bool": "true or false",
    "int": "a whole number",
    "decimal": 'a decimal number such as "0.004"',
    "finite": 'a decimal number such as "0.004"',
    "date": "a date such as 2026-09-01",
    "datetime": "a moment such as 2026-09-01T00:00:00+01:00",
    "tuple": "a list",
    "dict": "an object",
    "dataclass": "an object",
    "named": "an object",
}
UNKNOWN = ("unexpected_keyword_argument", "extra_forbidden")


def load(text: str) -> Any:
    """JSON text as plain values; numbers with a fraction become decimals, never floats."""
    try:
        return json.loads(text, parse_float=Decimal, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise Invalid(f"not JSON: {error.msg} at line {error.lineno}, column {error.colno}") from None
    except RecursionError:
        raise Invalid("not JSON that can be read: nested too deeply") from None


def _no_constant(name: str) -> Any:
    raise Invalid(f"not JSON: {name} is not a number")


def read(kind: type[T], value: Any, where: str = "") -> T:
    """The plain JSON value as a value of the core's type. Raises `Invalid` naming the field."""
    try:
        (found,) = _adapter(cast(Any, kind)).validate_json(json.dumps([value], default=str))
    except ValidationError as refused:
        raise _named(refused.errors(include_url=False), value, where) from None
    _refuse_floats(value, where)
    return cast(T, found)


@cache
def _adapter(kind: Any) -> TypeAdapter[tuple[Any]]:
    """How a value of a type is read. Only what stands in something takes the configuration: hence the tuple."""
    return TypeAdapter(tuple[kind], config=ConfigDict(extra="forbid", strict=True, alias_generator=_name))


def _name(field: str) -> str:
    return field.removesuffix("_")


def _refuse_floats(value: Any, where: str) -> None:
    """A float has lost digits before it came here, though a decimal could be made of what is left."""
    if isinstance(value, float):
        raise Invalid(f"must be {MUST_BE['decimal']}, not {_shown(value)}", where)
    if isinstance(value, dict):
        for name, inner in value.items():
            _refuse_floats(inner, _within(where, name))
    elif isinstance(value, list):
        for place, item in enumerate(value):
            _refuse_floats(item, f"{where}[{place}]")


def _named(errors: list[ErrorDetails], value: Any, where: str) -> Invalid:
    """One clear error of all that stand in the way."""
    # Each type that a value could have had complains; those that its tag does not name are not meant.
    tags = [error for error in errors if error["type"] == "literal_error" and error["loc"][-1] in TAGS]
    others = tuple(error["loc"][:-1] for error in tags)
    meant = [error for error in errors if not any(error["loc"][: len(other)] == other for other in others)]
    if meant:
        # A misspelt field is why another one is missing.
        error = next((error for error in meant if error["type"] in UNKNOWN), meant[0])
        what = _what(error)
    else:
        at_fault = Counter(error["loc"][-1] for error in tags).most_common(1)[0][0]
        alike = [error for error in tags if error["loc"][-1] == at_fault]
        error = alike[0]
        what = _one_of([error["ctx"]["expected"] for error in alike], error["input"])
    return Invalid(what, _place(error, value, where))


def _what(error: ErrorDetails) -> str:
    """What is wrong, in words."""
    if error["type"] in UNKNOWN:
        return "is not a field here"
    if error["type"].startswith("missing"):
        return "is missing"
    if error["type"] == "literal_error":
        return _one_of([error["ctx"]["expected"]], error["input"])
    kind = error["type"].split("_")[0]
    if kind not in MUST_BE:
        return f"cannot be read: {error['msg']}"
    return f"must be {MUST_BE[kind]}, not {_shown(error['input'])}"


def _one_of(expected: list[str], given: Any) -> str:
    options = dict.fromkeys(option for each in expected for option in re.findall("'([^']*)'", each))
    return f"must be one of {', '.join(options)}, not {_shown(given)}"


def _place(error: ErrorDetails, value: Any, where: str) -> str:
    """Where the error lies, as the names and places that the JSON itself has; types have none there."""
    for step in error["loc"][1:]:
        if isinstance(value, list) and isinstance(step, int):
            value, where = value[step], f"{where}[{step}]"
        elif isinstance(value, dict) and step in value:
            value, where = value[step], _within(where, step)
    return _within(where, error["loc"][-1]) if error["type"].startswith("missing") else where


def _within(where: str, name: Any) -> str:
    return f"{where}.{name}" if where else str(name)


def _shown(value: Any) -> str:
    text = json.dumps(value, default=str)
    return text if len(text) <= 60 else text[:57] + "..."


def write(value: Any) -> Any:
    """A core value as plain JSON values: the inverse of `read`."""
    kind: Any = type(value)
    if kind is str or kind is int or kind is bool or value is None:
        return value
    if kind is Decimal:
        return format(value, "f")
    names = _fields(kind)
    if names:
        return {name: write(getattr(value, field)) for field, name in names}
    if isinstance(value, dict):
        return {name: write(inner) for name, inner in value.items()}
    if isinstance(value, list | tuple):
        return [write(item) for item in value]
    if isinstance(value, date | datetime):
        return value.isoformat()
    return value


@cache
def _fields(kind: Any) -> tuple[tuple[str, str], ...]:
    """The fields of a core value with their names in JSON; none of what is no such value."""
    return tuple((each.name, _name(each.name)) for each in fields(kind)) if is_dataclass(kind) else ()
