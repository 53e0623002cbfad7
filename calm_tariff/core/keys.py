"""The form of keys and secrets: what one is for, where it calls, 160 random bits, and a checksum.

    calmkey-live-7m3x…(32 symbols)…q2c0v9e(7)

By the checksum one that was mistyped or cut is told from an unknown one without looking it up, and a scanner that finds
one in a text knows that it is one. Symbols are those of Crockford's base 32, small; the checksum is CRC-32 (ISO 3309)
of all before it.
"""

from __future__ import annotations

import hashlib
import re
import zlib
from typing import Literal

Kind = Literal["key", "secret"]

SYMBOLS = "0123456789abcdefghjkmnpqrstvwxyz"
RANDOM, CHECK, SHOWN = 32, 7, 4
_FORM = re.compile(rf"calm(key|secret)-(live|sandbox)-[{SYMBOLS}]{{{RANDOM + CHECK}}}")
_BEGINS = re.compile(rf"calm(?:key|secret)-(?:live|sandbox)-[{SYMBOLS}]{{{SHOWN}}}")
_OURS = re.compile(r"calm(key|secret)-")


def made(kind: Kind, environment: str, seed: str) -> str:
    """A key or secret from a text that nobody can guess, of 160 random bits at least."""
    number = int.from_bytes(hashlib.sha256(seed.encode()).digest())
    text = f"calm{kind}-{'live' if environment == 'live' else 'sandbox'}-{_written(number, RANDOM)}"
    return text + _check(text)


def is_mistyped(text: str) -> bool:
    """Whether a text is meant as a key or secret of ours and cannot be one. One of another form, as were made before or
    brought along, may be one."""
    if not _OURS.match(text):
        return False
    return _FORM.fullmatch(text) is None or _check(text[:-CHECK]) != text[-CHECK:]


def beginning(text: str) -> str:
    """As much of a key as may be shown: which one it is, and no help to guess it."""
    ours = _BEGINS.match(text)
    return ours[0] if ours else text[:12]


def _check(text: str) -> str:
    return _written(zlib.crc32(text.encode()), CHECK)


def _written(number: int, symbols: int) -> str:
    return "".join(SYMBOLS[number >> 5 * place & 31] for place in reversed(range(symbols)))
