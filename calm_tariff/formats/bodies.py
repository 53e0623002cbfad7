"""The beginning of a body that passes by, and what is kept of it to be looked at."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

MOST = 8192


@dataclass(slots=True)
class Beginning:
    """The first bytes of a body, and how many there were in all."""

    kept: bytearray = field(default_factory=bytearray)
    size: int = 0

    def take(self, part: bytes) -> None:
        """See a part of the body pass by."""
        if self.size < MOST:
            self.kept += part[: MOST - self.size]
        self.size += len(part)


def described(body: Beginning, fields: Mapping[str, str], blanked: Callable[[str], str]) -> dict[str, Any]:
    """What is kept of a body: its `type`, its whole `size`, whether it was `cut`, and its `text` as `blanked` makes it;
    no text where it is encoded (`encoding`, RFC 9110, section 8.4) or is no UTF-8."""
    encoding = fields.get("content-encoding", "").strip().lower()
    kept = bytes(body.kept)
    text = None if encoding not in ("", "identity") else _text(kept, cut=body.size > MOST)
    return {
        "type": fields.get("content-type", "")[:200],
        "size": body.size,
        "cut": body.size > MOST,
        "encoding": encoding[:40],
        "text": None if text is None else blanked(text),
    }


def _text(kept: bytes, cut: bool) -> str | None:
    for end in range(len(kept), max(-1, len(kept) - 4), -1):  # a character may be cut in the middle
        try:
            text = kept[:end].decode()
        except UnicodeDecodeError:
            if not cut:
                return None
            continue
        return None if "\0" in text else text
    return None
