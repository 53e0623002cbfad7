"""The chain that the record's entries form: each holds a digest of itself and of the one before it, so that an entry
that was changed, put in or taken out is found.

What an entry says goes into its digest by a salted digest of its own. Words about a person who asks to be forgotten can
so be taken out of an entry, salt and all, while its place in the chain stays: nothing of them can be guessed from what
is left. Digests are SHA-256 (FIPS 180-4) over JSON with sorted names.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

# What the first entry follows on.
BEGINNING = "0" * 64
# What was done, as the entry says that tells of words taken out of others.
ERASED = "erased the personal data"


@dataclass(frozen=True, slots=True, kw_only=True)
class Link:
    """An entry in the chain: its number, what it says (None where its words were taken out, by the entry `erased_by`),
    the salt and digest of that, and the digest that ties it to the one before it."""

    number: int
    says: Mapping[str, Any] | None
    salt: str
    content: str
    digest: str
    erased_by: int | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Checked:
    """What came of looking through a chain: how many entries were seen, how many without their words, the last one's
    number and digest, and what is wrong with the first that does not hold; empty where all do."""

    entries: int = 0
    erased: int = 0
    number: int = 0
    digest: str = BEGINNING
    wrong: str = ""


def content(says: Mapping[str, Any], salt: str) -> str:
    """The digest of what an entry says."""
    return _digest(salt, json.loads(json.dumps(says)))


def digest(before: str, number: int, said: str) -> str:
    """What ties an entry to the one before it: `said` is the digest of what it says."""
    return _digest(before, number, said)


def looked_through(links: Iterable[Link]) -> Checked:
    """Look through a chain from its beginning, as far as it holds."""
    entries, erased, number, last = 0, 0, 0, BEGINNING
    taken_out: dict[int, int] = {}
    telling: set[int] = set()
    for link in links:
        wrong = _wrong(link, last)
        if wrong:
            return Checked(entries=entries, erased=erased, number=number, digest=last, wrong=wrong)
        entries, erased = entries + 1, erased + (link.says is None)
        if link.erased_by is not None:
            taken_out[link.number] = link.erased_by
        elif link.says is not None and str(link.says.get("action", "")).startswith(ERASED):
            telling.add(link.number)
        number, last = link.number, link.digest
    unsaid = (n for n, by in taken_out.items() if by not in telling)
    first = next(unsaid, None)
    wrong = "" if first is None else f"entry {first} was emptied, and no entry {taken_out[first]} tells of it"
    return Checked(entries=entries, erased=erased, number=number, digest=last, wrong=wrong)


def _wrong(link: Link, before: str) -> str:
    if link.digest != digest(before, link.number, link.content):
        return f"entry {link.number} does not follow on the one before it: one is missing, was put in, or was changed"
    if link.erased_by is not None and link.says is not None:
        return f"entry {link.number} says something, though it was emptied"
    if link.says is None:
        return "" if link.erased_by is not None else f"entry {link.number} has lost its words"
    if link.content != content(link.says, link.salt):
        return f"entry {link.number} does not say what it said when it was written"
    return ""


def _digest(*parts: Any) -> str:
    text = json.dumps(parts, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()
