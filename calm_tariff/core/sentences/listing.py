"""Several things in one sentence."""

from __future__ import annotations

from collections.abc import Sequence


def listed(parts: Sequence[str], word: str = "and") -> str:
    """`one`, `one and two`, `one, two and three`."""
    return f"{', '.join(parts[:-1])} {word} {parts[-1]}" if len(parts) > 1 else "".join(parts)
