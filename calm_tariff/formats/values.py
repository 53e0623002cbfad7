"""JSON to the core's immutable values and back, exactly, naming the field that is wrong.

Decimals are JSON strings (or whole numbers), dates and moments are ISO 8601. A field that the value
does not have is refused, so that a misspelt one is never silently left out.
"""

from __future__ import annotations

import json
import types
import typing
from dataclasses import MISSING, fields, is_dataclass
from datetime import date, datetime
from decimal import Decimal, InvalidOperation
from functools import cache
from typing import Any, Literal, TypeVar, Union, cast, get_args, get_origin

from calm_tariff.core.errors import Invalid

T = TypeVar("T")


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
    return cast(T, _read(kind, value, where))


def _read(kind: Any, value: Any, where: str) -> Any:
    origin = get_origin(kind)
    if origin in (Union, types.UnionType):
        return _read_union(get_args(kind), value, where)
    if origin is Literal:
        options = get_args(kind)
        if value not in options or isinstance(value, bool):
            raise Invalid(f"must be one of {', '.join(map(str, options))}, not {_shown(value)}", where)
        return value
    if origin is tuple:
        if not isinstance(value, list):
            raise Invalid(f"must be a list, not {_shown(value)}", where)
        return tuple(_read(get_args(kind)[0], item, f"{where}[{place}]") for place, item in enumerate(value))
    if origin is dict:
        if not isinstance(value, dict):
            raise Invalid(f"must be an object, not {_shown(value)}", where)
        item = get_args(kind)[1]
        return {name: _read(item, inner, f"{where}.{name}") for name, inner in value.items()}
    if is_dataclass(kind) or hasattr(kind, "_field_defaults"):
        return _read_dataclass(kind, value, where)
    return _read_plain(kind, value, where)


def _read_union(options: tuple[Any, ...], value: Any, where: str) -> Any:
    if value is None and types.NoneType in options:
        return None
    real = [option for option in options if option is not types.NoneType]
    shapes: list[Any] = [option for option in real if is_dataclass(option)]
    if len(real) == 1:
        return _read(real[0], value, where)
    if not shapes:
        if int in real and isinstance(value, int) and not isinstance(value, bool):
            return value
        return _read(next(option for option in real if option is not int), value, where)
    if not isinstance(value, dict):
        raise Invalid(f"must be an object, not {_shown(value)}", where)
    for tag in ("kind", "model"):
        known = {name: s for s in shapes for name in get_args(_hints(s).get(tag))}
        if tag == "model" and len(shapes) == 1:
            break
        if not known:
            continue
        if value.get(tag) not in known:
            raise Invalid(f"must be one of {', '.join(known)}, not {_shown(value.get(tag))}", f"{where}.{tag}")
        shapes = [s for s in shapes if value[tag] in get_args(_hints(s).get(tag))]
    return _read_dataclass(shapes[0], value, where)


def _read_dataclass(kind: Any, value: Any, where: str) -> Any:
    if not isinstance(value, dict):
        raise Invalid(f"must be an object, not {_shown(value)}", where)
    hints = _hints(kind)
    at = f"{where}." if where else ""
    for name in value:
        if name not in hints:
            raise Invalid(f"is not a field here; known are {', '.join(hints)}", f"{at}{name}")
    found = {}
    optional = _optional(kind)
    for name, hint in hints.items():
        if name in value:
            found[name] = _read(hint, value[name], f"{at}{name}")
        elif name not in optional:
            raise Invalid("is missing", f"{at}{name}")
    return kind(**found)


def _read_plain(kind: Any, value: Any, where: str) -> Any:
    if kind is Decimal:
        return _decimal(value, where)
    if kind is int:
        if isinstance(value, bool) or not isinstance(value, int):
            raise Invalid(f"must be a whole number, not {_shown(value)}", where)
        return value
    if kind in (str, bool):
        if not isinstance(value, kind):
            raise Invalid(f"must be {'text' if kind is str else 'true or false'}, not {_shown(value)}", where)
        return value
    if kind in (date, datetime):
        try:
            return kind.fromisoformat(value)
        except (TypeError, ValueError):
            what = "a date such as 2026-09-01" if kind is date else "a moment such as 2026-09-01T00:00:00+01:00"
            raise Invalid(f"must be {what}, not {_shown(value)}", where) from None
    raise TypeError(f"no reading of {kind}")


def _decimal(value: Any, where: str) -> Decimal:
    if isinstance(value, Decimal | str | int) and not isinstance(value, bool):
        try:
            number = Decimal(value)
            if number.is_finite():
                return number
        except InvalidOperation:
            pass
    raise Invalid(f'must be a decimal number such as "0.004", not {_shown(value)}', where)


@cache
def _hints(kind: Any) -> dict[str, Any]:
    return typing.get_type_hints(kind)


@cache
def _optional(kind: Any) -> frozenset[str]:
    """The fields that may be left out."""
    if not is_dataclass(kind):
        return frozenset(kind._field_defaults)
    return frozenset(
        each.name for each in fields(kind) if each.default is not MISSING or each.default_factory is not MISSING
    )


def _shown(value: Any) -> str:
    text = json.dumps(value, default=str)
    return text if len(text) <= 60 else text[:57] + "..."


def write(value: Any) -> Any:
    """A core value as plain JSON values: the inverse of `read`."""
    if is_dataclass(value) and not isinstance(value, type):
        return {each.name: write(getattr(value, each.name)) for each in fields(value)}
    if isinstance(value, Decimal):
        return format(value, "f")
    if isinstance(value, dict):
        return {name: write(inner) for name, inner in value.items()}
    if isinstance(value, list | tuple):
        return [write(item) for item in value]
    if isinstance(value, date | datetime):
        return value.isoformat()
    return value
