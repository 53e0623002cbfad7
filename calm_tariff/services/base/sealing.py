"""What must be read again, but by nobody who has only the database: sealed with a secret that is not in it (JWE)."""

from __future__ import annotations

import hashlib

from joserfc import jwe
from joserfc.errors import JoseError
from joserfc.jwk import OctKey

_HOW = {"alg": "dir", "enc": "A256GCM"}


class Sealed(Exception):
    """It cannot be opened: it was sealed with another secret, or is damaged."""


def seal(secret: str, text: str) -> str:
    """A text as it may be kept. The secret must not be empty."""
    return jwe.encrypt_compact(_HOW, text, _key(secret))


def unseal(secret: str, sealed: str) -> str:
    """The text that was sealed. Raises `Sealed`."""
    try:
        opened = jwe.decrypt_compact(sealed, _key(secret)).plaintext
    except (JoseError, ValueError) as error:
        raise Sealed(str(error)) from None
    return (opened or b"").decode()


def _key(secret: str) -> OctKey:
    return OctKey.import_key(hashlib.sha256(secret.encode()).digest())
