"""One thing or several in one sentence."""

from __future__ import annotations

from collections.abc import Sequence


def listed(parts: Sequence[str], word: str = "and") -> str:
    """`one`, `one and two`, `one, two and three`."""
    return f"{', '.join(parts[:-1])} {word} {parts[-1]}" if len(parts) > 1 else "".join(parts)


def so_many(number: int, thing: str) -> str:
    """`0 calls`, `1 call`, `2,000 calls`."""
    return f"{number:,} {thing}" if number == 1 else f"{number:,} {thing}s"
