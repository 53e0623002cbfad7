"""Markdown (CommonMark) as HTML that is safe to show: raw HTML stays text, and links lead to the web or to mail."""

from __future__ import annotations

from markdown_it import MarkdownIt

_AS_OTHERS_WROTE = "nofollow ugc noopener"
_READER = MarkdownIt("commonmark", {"html": False, "linkify": False}).disable("image")


def html(text: str) -> str:
    """The text as HTML."""
    made: str = _READER.render(text)
    return made


def html_of_others(text: str) -> str:
    """The same of what strangers wrote: its links lend them nothing (`rel`, as in HTML's link types)."""
    tokens = _READER.parse(text)
    for token in tokens:
        for each in token.children or ():
            if each.type == "link_open":
                each.attrSet("rel", _AS_OTHERS_WROTE)
    made: str = _READER.renderer.render(tokens, _READER.options, {})
    return made
