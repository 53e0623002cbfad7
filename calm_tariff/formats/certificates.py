"""Client certificates: as their holders bring them (PEM), and as a proxy hands them over (RFC 9440)."""

from __future__ import annotations

import base64
import binascii
import hashlib
from dataclasses import dataclass
from datetime import datetime

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID

from calm_tariff.core.errors import Invalid

LONGEST = 20_000
LEAST_RSA_BITS = 2048
_KEYS = (rsa.RSAPublicKey, ec.EllipticCurvePublicKey, ed25519.Ed25519PublicKey, ed448.Ed448PublicKey)


@dataclass(frozen=True, slots=True)
class Certificate:
    """What is kept of a certificate: the SHA-256 of its DER form, in hex; its subject (RFC 4514); and from when until
    when it is good."""

    fingerprint: str
    subject: str
    begins_at: datetime
    ends_at: datetime


def brought(text: str, field: str = "certificate") -> Certificate:
    """A certificate for clients, from PEM. Raises `Invalid`, naming the field, for what is none, for more than one, and
    for one that no call could be made with."""
    if len(text) > LONGEST or "PRIVATE KEY" in text:
        raise Invalid("must be the certificate alone: keep the private key to yourself", field)
    try:
        found = x509.load_pem_x509_certificates(text.strip().encode("ascii", "replace"))
    except ValueError:
        raise Invalid("is no certificate in PEM form (-----BEGIN CERTIFICATE-----)", field) from None
    if len(found) != 1:
        raise Invalid("must be one certificate, the client's own, without those above it", field)
    (one,) = found
    _must_serve(one, field)
    der = one.public_bytes(Encoding.DER)
    return Certificate(
        hashlib.sha256(der).hexdigest(), one.subject.rfc4514_string(), one.not_valid_before_utc, one.not_valid_after_utc
    )


def handed_over(field: bytes) -> str | None:
    """The fingerprint of the certificate in a Client-Cert field, a byte sequence of structured fields (RFC 9440,
    section 2.2; RFC 8941, section 3.3.5); None where it is none."""
    text = field.strip()
    if len(text) < 3 or len(text) > LONGEST or text[:1] != b":" or text[-1:] != b":":
        return None
    try:
        der = base64.b64decode(text[1:-1], validate=True)
    except (binascii.Error, ValueError):
        return None
    return hashlib.sha256(der).hexdigest()


def _must_serve(one: x509.Certificate, field: str) -> None:
    try:
        key = one.public_key()
        usage = one.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
    except x509.ExtensionNotFound:
        usage = None
    except (ValueError, UnsupportedAlgorithm, x509.DuplicateExtension):
        raise Invalid("holds something that cannot be read", field) from None
    if isinstance(key, rsa.RSAPublicKey) and key.key_size < LEAST_RSA_BITS:
        raise Invalid(f"has an RSA key of {key.key_size} bits; {LEAST_RSA_BITS} are the least", field)
    if not isinstance(key, _KEYS):
        raise Invalid("has a key of a kind that is not taken; RSA, EC, Ed25519 and Ed448 are", field)
    if usage is not None and ExtendedKeyUsageOID.CLIENT_AUTH not in usage:
        raise Invalid("is not for clients, by its own word (extended key usage)", field)
