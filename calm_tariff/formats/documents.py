"""JSON and YAML documents from outside, read so that no document can exhaust the reader.

YAML is read as its JSON schema: dates and words such as `on` stay text. Aliases are shared, not
copied; a document that would unfold to more than `MOST_NODES` values, or contains itself, is refused.
"""

from __future__ import annotations

import gc
import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import orjson
import yaml

from calm_tariff.core.errors import Invalid

MOST_BYTES = 20 * 1024 * 1024
MOST_NODES = 4_000_000
DEEPEST = 200


class _JsonSchemaLoader(yaml.CSafeLoader):
    """libyaml's safe loader with YAML 1.2's plain JSON types only; merge keys are left as they are."""


_JsonSchemaLoader.yaml_implicit_resolvers = {}
for _tag, _pattern, _first in (
    ("null", r"^(?:~|null|Null|NULL|)$", ["~", "n", "N", ""]),
    ("bool", r"^(?:true|True|TRUE|false|False|FALSE)$", list("tTfF")),
    ("int", r"^-?(?:0|[1-9][0-9]*)$", list("-0123456789")),
    ("float", r"^-?(?:0|[1-9][0-9]*)(?:\.[0-9]*)?(?:[eE][-+]?[0-9]+)?$", list("-0123456789")),
):
    _JsonSchemaLoader.add_implicit_resolver(f"tag:yaml.org,2002:{_tag}", re.compile(_pattern), _first)


def read_document(text: str) -> Any:
    """The document as plain JSON values. Raises `Invalid`, naming the line, for one that cannot be read."""
    if len(text) > MOST_BYTES:
        raise Invalid(f"is larger than {MOST_BYTES // 1024 // 1024} MB")
    start = text.lstrip("\ufeff \t\r\n")[:1]
    if start in ("{", "["):
        try:
            return orjson.loads(text)
        except orjson.JSONDecodeError as error:
            if "recursion" in str(error):
                raise Invalid("is nested too deeply to be read") from None
            # YAML in flow style begins with a brace, too.
            try:
                with _uncollected():
                    return _from_yaml(text)
            except Invalid:
                where = f"line {error.lineno}, column {error.colno}"
                raise Invalid(f"is not JSON: {error.msg.split(':')[0]}", where) from None
    with _uncollected():
        return _from_yaml(text)


def _from_yaml(text: str) -> Any:
    _refuse_depth(text)
    try:
        value = yaml.load(text, _JsonSchemaLoader)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        where = f"line {mark.line + 1}, column {mark.column + 1}" if mark else ""
        raise Invalid(f"is not YAML: {error.problem or error.context}", where) from None
    except (yaml.YAMLError, ValueError) as error:
        raise Invalid(f"is not YAML: {str(error).splitlines()[0]}") from None
    except RecursionError:
        raise Invalid("is nested too deeply to be read") from None
    return _plain(value)


@contextmanager
def _uncollected() -> Iterator[None]:
    """Without the collector of cycles, which would walk again and again over all that is being made, for nothing: nine
    tenths of the time of a large document."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def _refuse_depth(text: str) -> None:
    """Refuse nesting that would overflow the composer's stack, before it composes."""
    depth = deepest = 0
    for bracket in re.findall(r"[\[\]{}]", text):
        depth += 1 if bracket in "[{" else -1
        deepest = max(deepest, depth)
    indents = max((len(m) for m in re.findall(r"^(?: *(?:[-?:] +)*)", text, re.MULTILINE)), default=0)
    if deepest > 5 * DEEPEST or indents > 10 * DEEPEST:
        raise Invalid("is nested too deeply to be read")


def _plain(value: Any) -> Any:
    """The same values with text as keys, merge keys merged and aliases still shared; sizes are checked."""
    sizes: dict[int, int] = {}
    made: dict[int, Any] = {}
    inside: set[int] = set()
    stack: list[tuple[Any, bool]] = [(value, False)]
    while stack:
        here, entered = stack.pop()
        if not isinstance(here, dict | list):
            continue
        key = id(here)
        if entered:
            inside.discard(key)
            made[key] = _converted(here, made)
            children = here.values() if isinstance(here, dict) else here
            sizes[key] = 1 + sum(sizes.get(id(child), 1) for child in children)
            if sizes[key] > MOST_NODES:
                raise Invalid(f"unfolds to more than {MOST_NODES:,} values through its aliases")
        elif key in inside:
            raise Invalid("contains itself through an alias")
        elif key not in made:
            inside.add(key)
            if len(inside) > DEEPEST:
                raise Invalid("is nested too deeply to be read")
            stack.append((here, True))
            stack.extend((child, False) for child in (here.values() if isinstance(here, dict) else here))
    return made.get(id(value), value)


def _converted(here: Any, made: dict[int, Any]) -> Any:
    if isinstance(here, list):
        return [made.get(id(child), child) for child in here]
    merged: dict[str, Any] = {}
    base = here.get("<<")
    for part in base if isinstance(base, list) else [base]:
        source = made.get(id(part))
        if isinstance(source, dict):
            merged |= {name: inner for name, inner in source.items() if name not in merged}
    own = {
        name if isinstance(name, str) else ("null" if name is None else str(name).lower()): made.get(id(child), child)
        for name, child in here.items()
        if name != "<<" or not isinstance(child, dict | list)
    }
    return merged | own
