"""Markdown (CommonMark) as HTML that is safe to show: raw HTML stays text, and links lead to the web or to mail."""

from __future__ import annotations

from markdown_it import MarkdownIt

_READER = MarkdownIt("commonmark", {"html": False, "linkify": False}).disable("image")


def html(text: str) -> str:
    """The text as HTML."""
    made: str = _READER.render(text)
    return made
