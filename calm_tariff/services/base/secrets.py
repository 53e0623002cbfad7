"""Hashes of what must not be readable: passwords slowly, random tokens fast."""

from __future__ import annotations

import hashlib
import re
from functools import cache
from threading import BoundedSemaphore

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from calm_tariff.core.errors import Invalid

_passwords = PasswordHasher(time_cost=2, memory_cost=19456, parallelism=1)
# Each takes 19 MB and a good part of a core: more than two at once would take both from everybody else.
_AT_ONCE = BoundedSemaphore(2)
LONGEST = 1000
# What stands for a hash where there is no password: no password has it.
NO_PASSWORD = "none"
# Compared against where no account exists, so that the answer takes as long.
_NOBODY = "$argon2id$v=19$m=19456,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$2Nq1XkUkTfTlcHqGkQ5bAn8rXr9SuNoc7NV1dZHVzhA"


def hash_password(password: str) -> str:
    """The argon2 hash of a password. Raises `Invalid` for one that is too short, or that others try first (NIST SP
    800-63B, 5.1.1.2): a common one, also with digits or signs around it, or a few characters again and again."""
    if not 10 <= len(password) <= LONGEST:
        raise Invalid(f"a password has at least 10 characters, and at most {LONGEST}", "password")
    if _is_common(password):
        raise Invalid("many people have this password, and it is tried first; choose one of several words", "password")
    with _AT_ONCE:
        return _passwords.hash(password)


def _is_common(password: str) -> bool:
    small = password.casefold()
    if re.fullmatch(r"(.{1,8}?)\1+", small):
        return True
    bare = re.sub(r"^[\W\d_]+|[\W\d_]+$", "", small)
    return small in _common() or bare in _common()


@cache
def _common() -> frozenset[str]:
    """The thirty thousand passwords that were found most often where some were stolen, as `zxcvbn` ships them."""
    from zxcvbn.frequency_lists import FREQUENCY_LISTS  # only who sets passwords needs the room

    return frozenset(FREQUENCY_LISTS["passwords"])


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
