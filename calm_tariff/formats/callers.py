"""Who keeps calling in a demo, as a file: for each key, what it asks for and how often."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pydantic import TypeAdapter


@dataclass(frozen=True, slots=True)
class Asked:
    """An operation that is called: under one of some paths of the gateway, the more often the greater its weight."""

    method: str
    paths: tuple[str, ...]
    weight: int


@dataclass(frozen=True, slots=True)
class LiveCaller:
    """A key of an application, its calls in the mean of a day, and what it asks for."""

    key: str
    daily: float
    asks: tuple[Asked, ...]


_FILE = TypeAdapter(tuple[LiveCaller, ...])


def written(callers: Sequence[LiveCaller]) -> bytes:
    """The file of these callers. It holds their keys: it is its owner's alone."""
    return _FILE.dump_json(tuple(callers))


def read(content: bytes) -> tuple[LiveCaller, ...]:
    """The callers of a file. Raises `pydantic.ValidationError`, a `ValueError`."""
    return _FILE.validate_json(content)
