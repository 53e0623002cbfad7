"""A thing that keeps passkeys, in a few lines: what a browser and its owner's telephone do together (WebAuthn Level 3,
with no attestation)."""

from __future__ import annotations

import hashlib
import json
import secrets
from dataclasses import dataclass, field
from typing import Any

import cbor2
from cryptography.hazmat.primitives.asymmetric.ec import ECDSA, SECP256R1, EllipticCurvePrivateKey, generate_private_key
from cryptography.hazmat.primitives.hashes import SHA256
from webauthn.helpers import bytes_to_base64url

PRESENT, VERIFIED, WITH_KEY = 0x01, 0x04, 0x40


@dataclass
class SoftPasskey:
    """One passkey. `flags` are those of its authenticator data: that somebody was there, and unlocked it."""

    key: EllipticCurvePrivateKey = field(default_factory=lambda: generate_private_key(SECP256R1()))
    identifier: bytes = field(default_factory=lambda: secrets.token_bytes(32))
    uses: int = 0
    flags: int = PRESENT | VERIFIED

    def made(self, options: dict[str, Any], origin: str) -> dict[str, Any]:
        """What a browser at an origin answers to the options by which a passkey is made."""
        point = self.key.public_key().public_numbers()
        cose = {1: 2, 3: -7, -1: 1, -2: point.x.to_bytes(32, "big"), -3: point.y.to_bytes(32, "big")}
        held = bytes(16) + len(self.identifier).to_bytes(2, "big") + self.identifier + cbor2.dumps(cose)
        data = self._data(options["rp"]["id"], self.flags | WITH_KEY) + held
        attested = cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": data})
        said = _said("webauthn.create", options["challenge"], origin)
        return self._credential({"clientDataJSON": said, "attestationObject": attested})

    def shown(self, options: dict[str, Any], origin: str) -> dict[str, Any]:
        """What a browser at an origin answers to the options by which somebody signs in."""
        self.uses += 1
        data, said = self._data(options["rpId"], self.flags), _said("webauthn.get", options["challenge"], origin)
        signature = self.key.sign(data + hashlib.sha256(said).digest(), ECDSA(SHA256()))
        return self._credential({"clientDataJSON": said, "authenticatorData": data, "signature": signature})

    def _data(self, name: str, flags: int) -> bytes:
        return hashlib.sha256(name.encode()).digest() + bytes([flags]) + self.uses.to_bytes(4, "big")

    def _credential(self, response: dict[str, bytes]) -> dict[str, Any]:
        named = bytes_to_base64url(self.identifier)
        said = {field: bytes_to_base64url(value) for field, value in response.items()}
        return {"id": named, "rawId": named, "type": "public-key", "response": said, "clientExtensionResults": {}}


def _said(kind: str, challenge: str, origin: str) -> bytes:
    return json.dumps({"type": kind, "challenge": challenge, "origin": origin, "crossOrigin": False}).encode()
