"""The form of keys and secrets: what one is for, where it calls, 160 random bits, and a checksum.

    calmkey-live-7m3x…(32 symbols)…q2c0v9e(7)

By the checksum one that was mistyped or cut is told from an unknown one without looking it up, and a scanner that finds
one in a text knows that it is one. Symbols are those of Crockford's base 32, small; the checksum is CRC-32 (ISO 3309)
of all before it.
"""

from __future__ import annotations

import hashlib
import math
import re
import zlib
from collections import Counter
from typing import Literal

from calm_tariff.core.errors import Invalid
from calm_tariff.core.meters import Environment

Kind = Literal["key", "secret"]

SYMBOLS = "0123456789abcdefghjkmnpqrstvwxyz"
RANDOM, CHECK, SHOWN = 32, 7, 4
SHORTEST_BROUGHT, LONGEST_BROUGHT = 32, 200
# What a key that is brought along must be worth at least.
LEAST_BITS = 96
_FORM = re.compile(rf"calm(key|secret)-(live|sandbox)-[{SYMBOLS}]{{{RANDOM + CHECK}}}")
_BEGINS = re.compile(rf"calm(?:key|secret)-(?:live|sandbox)-[{SYMBOLS}]{{{SHOWN}}}")
_ANYWHERE = re.compile(rf"(calm(?:key|secret)-(?:live|sandbox)-[{SYMBOLS}]{{{SHOWN}}})[0-9A-Za-z]+")
_OURS = re.compile(r"calm(key|secret)-")


def made(kind: Kind, environment: str, seed: str) -> str:
    """A key or secret from a text that nobody can guess, of 160 random bits at least."""
    number = int.from_bytes(hashlib.sha256(seed.encode()).digest())
    text = f"calm{kind}-{'live' if environment == 'live' else 'sandbox'}-{_written(number, RANDOM)}"
    return text + _check(text)


def brought(text: str) -> str:
    """A key that somebody brings along, as it is kept: of 32 to 200 characters that can be seen, and that nobody
    guesses. Raises `Invalid`, naming the field.

    How hard it is to guess is estimated from below: its length times the information of one of its characters, by how
    often each comes (Shannon), must be 96 bits, and no short part may make all of it.
    """
    key = text.strip()
    if not SHORTEST_BROUGHT <= len(key) <= LONGEST_BROUGHT or not (key.isascii() and key.isprintable()) or " " in key:
        least, most = SHORTEST_BROUGHT, LONGEST_BROUGHT
        raise Invalid(f"must have {least} to {most} characters of ASCII that can be seen, without spaces", "brought")
    if _OURS.match(key):
        raise Invalid("looks like one made here; let one be made instead", "brought")
    counts = Counter(key)
    bits = sum(count * math.log2(len(key) / count) for count in counts.values())
    if bits < LEAST_BITS or re.fullmatch(r"(.{1,16}?)\1+.{0,16}", key):
        raise Invalid("is too easy to guess; use 32 random characters or more", "brought")
    return key


def fits(application: Environment, key: Environment) -> bool:
    """Whether an application may have a key of an environment: one for the sandbox alone has no live ones."""
    return key == "sandbox" or application == "live"


def is_mistyped(text: str) -> bool:
    """Whether a text is meant as a key or secret of ours and cannot be one. One of another form, as were made before or
    brought along, may be one."""
    if not _OURS.match(text):
        return False
    return _FORM.fullmatch(text) is None or _check(text[:-CHECK]) != text[-CHECK:]


def blanked(text: str) -> str:
    """A text in which each key or secret of ours is cut to its beginning."""
    return _ANYWHERE.sub(lambda found: f"{found[1]}…", text)


def beginning(text: str) -> str:
    """As much of a key made here as may be shown: which one it is, and no help to guess it."""
    ours = _BEGINS.match(text)
    return ours[0] if ours else text[:12]


def beginning_of_brought(text: str) -> str:
    """The same of one that was brought along: less, because who knows what it is made of."""
    return text[:SHOWN]


def _check(text: str) -> str:
    return _written(zlib.crc32(text.encode()), CHECK)


def _written(number: int, symbols: int) -> str:
    return "".join(SYMBOLS[number >> 5 * place & 31] for place in reversed(range(symbols)))
