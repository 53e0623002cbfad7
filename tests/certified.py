"""Client certificates, made for tests."""

from __future__ import annotations

import base64
from datetime import UTC, datetime, timedelta
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

CLIENTS = (ExtendedKeyUsageOID.CLIENT_AUTH,)


def certificate(
    name: str = "bridge", begins: datetime | None = None, days: int = 365, key: Any = None, usage: Any = CLIENTS
) -> x509.Certificate:
    """A certificate that signs itself, good from a moment for some days."""
    key = key or ec.generate_private_key(ec.SECP256R1())
    begins = begins or datetime(2026, 9, 1, tzinfo=UTC)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(begins + timedelta(days=days))
    )
    if usage:
        made = made.add_extension(x509.ExtendedKeyUsage(usage), critical=False)
    return made.sign(key, hashes.SHA256())


def pem(of: x509.Certificate) -> str:
    return of.public_bytes(Encoding.PEM).decode()


def field(of: x509.Certificate) -> str:
    """As a proxy hands it over."""
    return f":{base64.b64encode(of.public_bytes(Encoding.DER)).decode()}:"
