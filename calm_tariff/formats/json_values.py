"""Parts of JSON that somebody else wrote, taken for what they should be."""

from __future__ import annotations

from typing import Any


def as_list(value: Any) -> list[Any]:
    """A list; an empty one where it is none."""
    return value if isinstance(value, list) else []


def as_object(value: Any) -> dict[str, Any]:
    """An object; an empty one where it is none."""
    return value if isinstance(value, dict) else {}
