"""What two states of a thing differ in, name by name, for people to read."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

# What tells the parts of a list apart, where each of them has it.
_TOLD_APART = ("name", "key", "id", "kind")
_NOTHING = object()


@dataclass(frozen=True, slots=True, kw_only=True)
class FieldChange:
    """One thing that differs: which, by the names that lead to it, and what it was and is. None: it was not there."""

    what: str
    before: str | None
    after: str | None


def changes(before: Mapping[str, Any] | None, after: Mapping[str, Any] | None) -> list[FieldChange]:
    """What differs between two states, of which either may not be there, in their own order."""
    return list(_differing((), before or {}, after or {}))


def _differing(path: tuple[str, ...], before: Any, after: Any) -> Iterator[FieldChange]:
    if before == after:
        return
    was, becomes = _parts(before), _parts(after)
    branching = (was is not None or before is _NOTHING) and (becomes is not None or after is _NOTHING)
    if branching and (was or becomes):
        for name in dict.fromkeys([*(was or {}), *(becomes or {})]):
            yield from _differing((*path, name), (was or {}).get(name, _NOTHING), (becomes or {}).get(name, _NOTHING))
    else:
        was_said, said = _said(before), _said(after)
        if was_said != said:
            yield FieldChange(what=" › ".join(path), before=was_said, after=said)


def _parts(value: Any) -> dict[str, Any] | None:
    """What a value is made of, by name; None for one that is read as a whole."""
    if isinstance(value, Mapping):
        return {_words(str(name)): part for name, part in value.items()}
    if isinstance(value, list) and value and all(isinstance(p, Mapping) for p in value):
        for mark in _TOLD_APART:
            marks = [str(part.get(mark)) for part in value]
            if all(part.get(mark) is not None for part in value) and len(set(marks)) == len(marks):
                return {_words(name): part for name, part in zip(marks, value, strict=True)}
        return {str(place): part for place, part in enumerate(value, 1)}
    return None


def _words(name: str) -> str:
    return name.replace("_", " ")


def _said(value: Any) -> str | None:
    if value is _NOTHING:
        return None
    if value is None or value == "" or value == [] or value == {}:
        return "nothing"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        parts = [str(_said(part)) for part in value]
        return (" " if all(part.endswith(".") for part in parts) else ", ").join(parts)
    return str(value)
