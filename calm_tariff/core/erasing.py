"""Erasing somebody from what was written about them: the words that name them give way to others, wherever they stand
in a text or in a document of JSON, and nothing else of it changes."""

from __future__ import annotations

import html
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, quote_plus

_ADDRESS = re.compile(r"[\w.%+-]+@[\w-]+(?:\.[\w-]+)+")


@dataclass(frozen=True, slots=True, kw_only=True)
class Trace:
    """A name or mail address, and what stands in its place. `certain` where nobody and nothing else is called that, so
    that whatever speaks of it speaks of them."""

    text: str
    instead: str
    certain: bool = True


def forms(text: str) -> list[str]:
    """The ways in which a name stands in what was written: as it is, in HTML, and in an address."""
    return list(dict.fromkeys((text, html.escape(text), html.escape(text, quote=False), quote(text), quote_plus(text))))


def mail_addresses(text: str) -> list[str]:
    """What in a text looks like a mail address."""
    return _ADDRESS.findall(text)


def without(value: Any, traces: Sequence[Trace]) -> Any:
    """A text, or a value of JSON, in which the traces gave way: whole words of it, whatever their case; names of what
    an object holds stay."""
    if isinstance(value, str):
        for trace in traces:
            for form in forms(trace.text):
                value = trace.instead.join(re.split(rf"(?<!\w){re.escape(form)}(?!\w)", value, flags=re.I))
        return value
    if isinstance(value, list):
        return [without(each, traces) for each in value]
    if isinstance(value, dict):
        return {name: without(each, traces) for name, each in value.items()}
    return value
