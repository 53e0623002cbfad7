"""Which operation of an API version a call is for: from a method and a raw path, by OpenAPI's precedence, concrete
before templated."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from urllib.parse import unquote

_PARAMETER = re.compile(r"\{[^{}]*\}")


@dataclass(slots=True)
class _Node:
    """One path segment deep. `templates` are tried from the most to the least literal."""

    literal: dict[str, _Node] = field(default_factory=dict)
    templates: list[tuple[int, re.Pattern[str], _Node]] = field(default_factory=list)
    operations: dict[str, list[int]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Match:
    """Where a path leads. `operation_id` is None where the path exists but not with this method. `other_case` are
    the operations that a back end may take the call for which does not tell capitals from small letters."""

    operation_id: int | None
    methods: tuple[str, ...]
    other_case: frozenset[int] = frozenset()


class Router:
    """The operations of one API version, as a tree of path segments."""

    __slots__ = ("_folded", "_root")

    def __init__(self, operations: Sequence[tuple[int, str, str]]) -> None:
        self._root, self._folded = _Node(), _Node()
        for operation_id, method, path in operations:
            _put(self._root, operation_id, method, path)
            _put(self._folded, operation_id, method, path.lower())

    def match(self, method: str, path: str) -> Match | None:
        """The operation for a path still percent-encoded; an encoded slash stays inside its segment. HEAD is
        answered where GET is."""
        segments = path.split("/")[1:]
        if "%" in path:
            segments = [unquote(segment) for segment in segments]
        node = _find(self._root, segments, 0)
        if node is None:
            return None
        found = _of_method(node, method)[-1:]
        folded = _find(self._folded, [segment.lower() for segment in segments], 0)
        others = frozenset(_of_method(folded, method)) - set(found) if folded and found else frozenset()
        return Match(found[0] if found else None, tuple(node.operations), others)


def _put(root: _Node, operation_id: int, method: str, path: str) -> None:
    node = root
    for segment in path.split("/")[1:]:
        node = _child(node, segment)
    node.operations.setdefault(method, []).append(operation_id)


def _of_method(node: _Node, method: str) -> list[int]:
    return node.operations.get(method) or (node.operations.get("GET", []) if method == "HEAD" else [])


def _child(node: _Node, segment: str) -> _Node:
    if "{" not in segment:
        return node.literal.setdefault(segment, _Node())
    literals = [re.escape(text) for text in _PARAMETER.split(segment)]
    pattern = re.compile("(.+?)".join(literals), re.DOTALL)
    for _, known, child in node.templates:
        if known.pattern == pattern.pattern:
            return child
    child = _Node()
    node.templates.append((sum(map(len, literals)), pattern, child))
    node.templates.sort(key=lambda template: -template[0])
    return child


def _find(node: _Node, segments: list[str], depth: int) -> _Node | None:
    if depth == len(segments):
        return node if node.operations else None
    segment = segments[depth]
    child = node.literal.get(segment)
    if child is not None:
        found = _find(child, segments, depth + 1)
        if found is not None:
            return found
    for _, pattern, templated in node.templates:
        if segment and pattern.fullmatch(segment):
            found = _find(templated, segments, depth + 1)
            if found is not None:
                return found
    return None
