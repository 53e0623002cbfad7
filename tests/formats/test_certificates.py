"""Client certificates are known by what they are, whichever way they come."""

from __future__ import annotations

import hashlib

import pytest
from cryptography.hazmat.primitives.asymmetric import dsa, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID

from calm_tariff.core.errors import Invalid
from calm_tariff.formats import certificates
from tests.certified import certificate, field, pem


def test_the_same_certificate_is_known_from_its_holder_and_from_a_proxy() -> None:
    made = certificate("bridge")
    kept = certificates.brought(f"\n{pem(made)}  ")
    assert kept.fingerprint == hashlib.sha256(made.public_bytes(Encoding.DER)).hexdigest()
    assert kept.fingerprint == certificates.handed_over(f" {field(made)}".encode())
    assert (kept.subject, kept.ends_at) == ("CN=bridge", made.not_valid_after_utc)
    assert certificates.handed_over(field(certificate("bridge")).encode()) != kept.fingerprint


def test_what_cannot_be_called_with_is_refused_in_words() -> None:
    key = rsa.generate_private_key(public_exponent=65537, key_size=1024)
    private = rsa.generate_private_key(public_exponent=65537, key_size=2048)
    secret = private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()
    one = pem(certificate())
    for text, words in (
        ("", "no certificate"),
        ("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----", "no certificate"),
        (f"{secret}{one}", "private key to yourself"),
        ("x" * 30_000, "the certificate alone"),
        (one + pem(certificate()), "one certificate"),
        (pem(certificate(key=key)), "RSA key of 1024 bits"),
        (pem(certificate(key=dsa.generate_private_key(2048))), "of a kind that is not taken"),
        (pem(certificate(usage=[ExtendedKeyUsageOID.SERVER_AUTH])), "not for clients"),
        ("\u202e" + one[:40], "no certificate"),
    ):
        with pytest.raises(Invalid, match=words) as refused:
            certificates.brought(text)
        assert refused.value.where == "certificate"
    for usage in (None, [ExtendedKeyUsageOID.SERVER_AUTH, ExtendedKeyUsageOID.CLIENT_AUTH]):
        assert certificates.brought(pem(certificate(usage=usage, key=private))).fingerprint


@pytest.mark.parametrize(
    "wrong", [b"", b"::", b":", b":AA", b"AAAA", b":A*A=:", b":" + b"A" * 30_000 + b":", b":\xff:"]
)
def test_a_field_that_is_no_byte_sequence_is_none(wrong: bytes) -> None:
    assert certificates.handed_over(wrong) is None
