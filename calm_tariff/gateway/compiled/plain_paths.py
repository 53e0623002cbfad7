"""Paths that mean the same to us and to every back end, and those that do not."""

from __future__ import annotations

from urllib.parse import unquote, unquote_to_bytes

# What some back ends obey instead of the method or the path that was asked for; also with `_` for `-`.
OVERRIDES = frozenset(
    spelling
    for name in (
        b"x-http-method-override",
        b"x-http-method",
        b"x-method-override",
        b"x-original-url",
        b"x-rewrite-url",
        b"x-original-path",
        b"x-override-url",
    )
    for spelling in (name, name.replace(b"-", b"_"))
)


def is_odd(path: str) -> bool:
    """Whether some back ends read another path than this one: a `;` begins a parameter of a segment to some, and ends
    nothing to others; a `?` or `#` that was encoded; bytes that are no UTF-8, which some read as dots or slashes."""
    if ";" not in path and "%" not in path:
        return False
    raw = path.encode("latin-1", "replace")
    for _ in range(4):  # as it stands, and decoded more than once, because some back ends do
        if any(c in raw for c in b";?#"):
            return True
        try:
            raw.decode()
        except UnicodeDecodeError:
            return True
        raw = unquote_to_bytes(raw)
    return False


def is_plain(path: str) -> bool:
    """Whether a path means the same to us and to every back end, and may be forwarded.

    Not one with `.` or `..` segments, encoded or not, nor one whose decoding makes other segments of it
    (a slash, a backslash), ends it (a question or number sign left bare), or hides something (controls).
    """
    if "/." not in path and "%" not in path and "\\" not in path:
        return path.isascii() and path.isprintable()
    for segment in path.split("/"):
        # Decoded more than once, because some back ends do.
        for _ in range(3):
            segment = unquote(segment, errors="replace")
            if segment in (".", "..") or "/" in segment or "\\" in segment or any(ord(c) < 32 for c in segment):
                return False
    return path.isascii()
