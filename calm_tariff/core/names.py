"""Names that people give: what they may hold, so that no name can look like another or speak outside its place."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Mapping

from calm_tariff.core.errors import Invalid

LONGEST = 200
MOST_TAGS, LONGEST_TAG = 10, 100
_TAG = re.compile(r"[a-z][a-z0-9_-]{0,29}")
# Control and format characters (zero-width, directions), what has no meaning, and ends of lines.
_REFUSED = frozenset({"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"})


def plain(text: str, field: str, at_most: int = LONGEST) -> str:
    """A name as it is kept: composed (NFC), without space around it. Raises `Invalid`, naming the field."""
    name = unicodedata.normalize("NFC", text).strip()
    if not name:
        raise Invalid("must not be empty", field)
    if len(name) > at_most:
        raise Invalid(f"must be at most {at_most} characters long", field)
    for place, letter in enumerate(name, 1):
        if unicodedata.category(letter) in _REFUSED:
            called = unicodedata.name(letter, f"U+{ord(letter):04X}")
            raise Invalid(f"holds a character that cannot be seen, at place {place}: {called}", field)
    return name


def typed_again(text: str, wanted: str, field: str = "name") -> None:
    """See that a name was typed as it is kept, before something is done for good. Raises `Invalid`, naming the
    field."""
    if unicodedata.normalize("NFC", text).strip() != wanted:
        raise Invalid(f"type the name as it is: {wanted}", field)


def tags(given: Mapping[str, str], field: str = "tags") -> dict[str, str]:
    """Words of somebody's own, by name, as they are kept: ten at most. Raises `Invalid`, naming the field."""
    if len(given) > MOST_TAGS:
        raise Invalid("at most ten tags fit", field)
    for name, value in given.items():
        if not _TAG.fullmatch(name):
            raise Invalid(f"{name!r} must be up to 30 small letters, digits, dashes; a letter first", field)
        if not value.isprintable() or len(value) > LONGEST_TAG:
            raise Invalid(f"the value of {name} must be up to {LONGEST_TAG} printable characters", field)
    return dict(given)


def cut(text: str, at_most: int = LONGEST) -> str:
    """A line made of several names, shortened where it must be."""
    return text if len(text) <= at_most else f"{text[: at_most - 1]}…"
