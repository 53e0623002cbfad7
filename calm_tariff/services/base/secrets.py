"""Hashes of what must not be readable: passwords slowly, random tokens fast."""

from __future__ import annotations

import hashlib
from threading import BoundedSemaphore

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from calm_tariff.core.errors import Invalid

_passwords = PasswordHasher(time_cost=2, memory_cost=19456, parallelism=1)
# Each takes 19 MB and a good part of a core: more than two at once would take both from everybody else.
_AT_ONCE = BoundedSemaphore(2)
LONGEST = 1000
# Compared against where no account exists, so that the answer takes as long.
_NOBODY = "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$2Nq1XkUkTfTlcHqGkQ5bAn8rXr9SuNoc7NV1dZHVzhA"


def hash_password(password: str) -> str:
    """The argon2 hash of a password. Raises `Invalid` for one that is too short."""
    if not 10 <= len(password) <= LONGEST:
        raise Invalid(f"a password has at least 10 characters, and at most {LONGEST}", "password")
    with _AT_ONCE:
        return _passwords.hash(password)


def password_matches(stored: str | None, password: str) -> bool:
    """Whether a password is the one that was hashed; None stands for an unknown account."""
    if len(password) > LONGEST:
        return False
    try:
        with _AT_ONCE:
            return _passwords.verify(stored or _NOBODY, password) and stored is not None
    except (VerificationError, InvalidHashError):
        return False


def hash_token(token: str) -> str:
    """The hash under which a random token is kept."""
    return hashlib.sha256(token.encode()).hexdigest()
