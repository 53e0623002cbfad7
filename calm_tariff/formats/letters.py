"""Notices as letters: a template in the provider's words (Jinja), filled in as plain text and as HTML.

Each template has a block `subject` and a block `text`. The HTML is the text read as Markdown; what is filled in is text
there, too, whatever it holds: a name cannot become a link.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from typing import Any

from jinja2 import PackageLoader, StrictUndefined, Template
from jinja2.sandbox import SandboxedEnvironment
from markupsafe import Markup

from calm_tariff.formats.markdown import html

_MEANING = re.compile(r"([\\`*_{}\[\]()<>#+\-.!|~&:])")
_SPACE = re.compile(r"\s*\n\s*")
_BARE = re.compile(r"(?<![\w(])(https?://[^\s<>]*[^\s<>.,;])")


class Prose(str):
    """Text of the provider's own, whose Markdown is meant."""


class Address(str):
    """An address of our own, which becomes a link."""


@dataclass(frozen=True, slots=True)
class Letter:
    """A notice as it is sent: under its `text` stands who it is from, which its `html` holds."""

    subject: str
    text: str
    html: str
    foot: str = ""

    @property
    def body(self) -> str:
        """The letter as plain text, with its foot set off as mail programs know it (RFC 3676, 4.3)."""
        return f"{self.text}\n-- \n{self.foot}\n" if self.foot else self.text


def letter(template: str, fields: Mapping[str, Any], foot: str = "") -> Letter:
    """A template by its name, filled in, over a foot. Raises `jinja2.UndefinedError` for a field that is missing."""
    subject = _SPACE.sub(" ", _filled(_plain(template), "subject", fields)).strip()
    text = _filled(_plain(template), "text", fields).strip("\n") + "\n"
    marked = _filled(_marked(template), "text", fields)
    body = Markup(html(_BARE.sub(r"<\1>", marked)))  # Markdown without raw HTML
    page = _layout().render(subject=subject, body=body, office=fields.get("office", ""), foot=foot)
    return Letter(subject, text, page, foot)


def _filled(template: Template, block: str, fields: Mapping[str, Any]) -> str:
    return "".join(template.blocks[block](template.new_context(dict(fields))))


def _environment(**options: Any) -> SandboxedEnvironment:
    return SandboxedEnvironment(
        loader=PackageLoader("calm_tariff.formats", "notices"),
        undefined=StrictUndefined,
        keep_trailing_newline=True,
        **options,
    )


@cache
def _plain(name: str) -> Template:
    return _environment(autoescape=False).get_template(f"{name}.jinja")


@cache
def _marked(name: str) -> Template:
    return _environment(autoescape=False, finalize=_as_text).get_template(f"{name}.jinja")


@cache
def _layout() -> Template:
    return _environment(autoescape=True).get_template("letter.html.jinja")


def _as_text(value: Any) -> Any:
    """A value that stays text in Markdown, unless it was meant otherwise."""
    if isinstance(value, Prose | Address) or not isinstance(value, str):
        return value
    return _MEANING.sub(r"\\\1", value)
