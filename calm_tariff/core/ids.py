"""Call ids: 26 characters, sortable by time, unguessable in their tail."""

from __future__ import annotations

from hashlib import sha256

_ALPHABET = "0123456789ABCDEFGHJKMNPQRSTVWXYZ"
# Two letters at a time: an id is made for every call.
_PAIRS = tuple(one + other for one in _ALPHABET for other in _ALPHABET)
_SHIFTS = tuple(range(120, -1, -10))


def call_id(at_us: int, tail: int) -> str:
    """The id of a call made at an instant; `tail` is 80 random bits."""
    number = ((at_us // 1000) << 80) | (tail & ((1 << 80) - 1))
    return "".join([_PAIRS[(number >> shift) & 1023] for shift in _SHIFTS])


def instant_in(identifier: str) -> int:
    """The instant, to the millisecond, that a call id carries. Raises ValueError for another text."""
    number = 0
    for letter in identifier:
        number = number * 32 + _ALPHABET.index(letter)
    if len(identifier) != 26:
        raise ValueError("a call id has 26 characters")
    return (number >> 80) * 1000


def outside_call_id(source: str, identifier: str) -> str:
    """The id by which a call is kept that another gateway counted and named: the same for the same source and name,
    whenever it was made. It carries no instant."""
    return sha256(f"{source}\0{identifier}".encode()).hexdigest()[:26].upper()
