"""Keys sealed by a passphrase: scrypt (RFC 7914) makes a key of it, AES-256-GCM (NIST SP 800-38D) seals the
data key with that.
"""

from __future__ import annotations

import base64
import secrets
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from foldbarn.core.errors import NotAllowed

COST, BLOCK, LANES = 2**15, 8, 1  # about 32 MiB and a tenth of a second for each try
SHORTEST_PASSPHRASE = 12


def seal_new_key(passphrase: str) -> dict[str, Any]:
    """A new random data key of 256 bits, sealed. The passphrase is kept nowhere."""
    salt, nonce = secrets.token_bytes(16), secrets.token_bytes(12)
    sealed = AESGCM(_key(passphrase, salt)).encrypt(nonce, secrets.token_bytes(32), b"foldbarn data key")
    return {
        name: base64.b64encode(value).decode()
        for name, value in (("salt", salt), ("nonce", nonce), ("sealed", sealed))
    }


def open_key(passphrase: str, kept: dict[str, Any]) -> bytes:
    """The data key. Raises NotAllowed for another passphrase."""
    salt, nonce, sealed = (base64.b64decode(kept[name]) for name in ("salt", "nonce", "sealed"))
    try:
        return AESGCM(_key(passphrase, salt)).decrypt(nonce, sealed, b"foldbarn data key")
    except InvalidTag as error:
        raise NotAllowed("This passphrase does not open the cluster's key.", about="passphrase") from error


def _key(passphrase: str, salt: bytes) -> bytes:
    return Scrypt(salt=salt, length=32, n=COST, r=BLOCK, p=LANES).derive(passphrase.encode())
