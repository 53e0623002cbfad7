"""Notices as letters: words with fields (Jinja), filled in as plain text and as HTML.

Where the words say no HTML of their own, it is the text read as Markdown. What is filled in is text there, too,
whatever it holds: a name cannot become a link.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib import resources
from typing import Any

from jinja2 import StrictUndefined, Template
from jinja2.sandbox import SandboxedEnvironment
from markupsafe import Markup

from calm_tariff.core.notices import Words
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


def letter(words: Words, fields: Mapping[str, Any], foot: str = "") -> Letter:
    """Words, filled in, over a foot. Raises `jinja2.UndefinedError` for a field that is missing."""
    subject = _SPACE.sub(" ", _plain(words.subject).render(fields)).strip()
    text = _plain(words.text).render(fields).strip("\n") + "\n"
    if words.html:
        body = Markup(_html(words.html).render(fields))  # what is filled in is escaped
    else:
        body = Markup(html(_BARE.sub(r"<\1>", _marked(words.text).render(fields))))  # Markdown without raw HTML
    page = _layout().render(subject=subject, body=body, office=fields.get("office", ""), foot=foot)
    return Letter(subject, text, page, foot)


def plain(fields: Mapping[str, Any]) -> dict[str, Any]:
    """Fields as they may be kept, to fill in other words with one day (`given`)."""
    kept: dict[str, Any] = {}
    for name, value in fields.items():
        if isinstance(value, Prose | Address):
            kept[name] = {value.__class__.__name__.lower(): str(value)}
        else:
            kept[name] = value if isinstance(value, str | bool | int | list) else str(value)
    return kept


def given(kept: Mapping[str, Any]) -> dict[str, Any]:
    """The fields that were kept."""
    made: dict[str, Any] = {}
    for name, value in kept.items():
        if isinstance(value, dict):
            ((what, text),) = value.items()
            made[name] = Prose(text) if what == "prose" else Address(text)
        else:
            made[name] = value
    return made


def _environment(**options: Any) -> SandboxedEnvironment:
    return SandboxedEnvironment(undefined=StrictUndefined, keep_trailing_newline=True, **options)


@lru_cache(maxsize=256)
def _plain(source: str) -> Template:
    return _environment(autoescape=False).from_string(source)


@lru_cache(maxsize=256)
def _marked(source: str) -> Template:
    return _environment(autoescape=False, finalize=_as_text).from_string(source)


@lru_cache(maxsize=256)
def _html(source: str) -> Template:
    return _environment(autoescape=True, finalize=_as_html).from_string(source)


@cache
def _layout() -> Template:
    source = resources.files("calm_tariff.formats").joinpath("notices", "letter.html.jinja").read_text("utf-8")
    return _environment(autoescape=True).from_string(source)


def _as_text(value: Any) -> Any:
    """A value that stays text in Markdown, unless it was meant otherwise."""
    if isinstance(value, Prose | Address) or not isinstance(value, str):
        return value
    return _MEANING.sub(r"\\\1", value)


def _as_html(value: Any) -> Any:
    """A value in HTML: Markdown that is meant becomes what it says."""
    return Markup(html(value)) if isinstance(value, Prose) else value
