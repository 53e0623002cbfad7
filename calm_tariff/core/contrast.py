"""Whether two colours can be told apart: contrast ratios as WCAG 2.2 defines them (relative luminance, sRGB)."""

from __future__ import annotations

import re
from dataclasses import dataclass

from calm_tariff.core.errors import Invalid

WHITE = "#FFFFFF"
# WCAG 2.2, 1.4.3 (text) and 1.4.11 (what is no text, but has a meaning).
TEXT = 4.5
SHAPE = 3.0
_COLOUR = re.compile(r"#[0-9A-F]{6}")


@dataclass(frozen=True, slots=True, kw_only=True)
class Contrast:
    """How far a pair of colours is apart: what it is for, its ratio cut to two decimals, the least it may be, and
    where it is less, the nearest colour that would do."""

    field: str
    meaning: str
    ratio: float
    least: float
    nearest: str | None = None


def colour(text: str, field: str) -> str:
    """A colour as it is kept, #RRGGBB in capitals. Raises `Invalid`, naming the field."""
    found = text.strip().upper()
    if not _COLOUR.fullmatch(found):
        raise Invalid("is no colour; write it as #RRGGBB, such as #153B5B", field)
    return found


def ratio(one: str, other: str) -> float:
    """The contrast ratio of two colours, from 1 to 21."""
    brighter, darker = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (brighter + 0.05) / (darker + 0.05)


def judged(main: str, accent: str) -> list[Contrast]:
    """The pairs of a portal's two colours that must be told apart: white words on the main colour, which are also
    words of the main colour on white; and the accent, which marks on the main colour where one is."""
    words = _judged("main_colour", "white words on the main colour, and words of it on white", (main, WHITE), TEXT)
    marks = _judged("accent_colour", "the accent on the main colour", (accent, main), SHAPE)
    return [words, marks]


def _judged(field: str, meaning: str, pair: tuple[str, str], least: float) -> Contrast:
    found = ratio(*pair)
    nearest = None if found >= least else _nearest(*pair, least=least)
    return Contrast(field=field, meaning=meaning, ratio=int(found * 100) / 100, least=least, nearest=nearest)


def _nearest(changed: str, other: str, least: float) -> str:
    """The first colour on the ways from `changed` to black and to white that is far enough from another."""
    for step in range(1, 101):
        for end in (0, 255):
            parts = (round(part + (end - part) * step / 100) for part in _parts(changed))
            tried = "#" + "".join(f"{part:02X}" for part in parts)
            if ratio(tried, other) >= least:
                return tried
    raise AssertionError("black or white is far enough from every colour")


def _parts(text: str) -> list[int]:
    return [int(text[place : place + 2], 16) for place in (1, 3, 5)]


def _luminance(text: str) -> float:
    red, green, blue = (_linear(part / 255) for part in _parts(text))
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def _linear(part: float) -> float:
    return part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4
