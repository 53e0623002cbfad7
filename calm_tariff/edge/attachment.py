"""Answers that are kept as files."""

from __future__ import annotations


def named(file: str) -> dict[str, str]:
    """The header that has an answer kept under a name (RFC 6266)."""
    return {"content-disposition": f'attachment; filename="{file}"'}
