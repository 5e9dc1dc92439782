"""Secrets that have to be used later, such as an orchestrator's token: kept sealed by a key that lies in a
file beside the database and not in it (AES-256-GCM, NIST SP 800-38D).
"""

from __future__ import annotations

import base64
import os
import secrets

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from foldbarn.core.errors import NotPossible
from foldbarn.settings import settings

_ABOUT = b"foldbarn secret"
_NONCE_BYTES, _KEY_BYTES = 12, 32


def fresh_secret(length: int) -> str:
    """Of so many random bytes, as text (RFC 4648, section 5)."""
    return secrets.token_urlsafe(length)


def seal(secret: str) -> str:
    nonce = secrets.token_bytes(_NONCE_BYTES)
    return base64.b64encode(nonce + AESGCM(_key()).encrypt(nonce, secret.encode(), _ABOUT)).decode()


def unseal(sealed: str) -> str:
    """Raises NotPossible where it was sealed by another key."""
    try:
        whole = base64.b64decode(sealed)
        return AESGCM(_key()).decrypt(whole[:_NONCE_BYTES], whole[_NONCE_BYTES:], _ABOUT).decode()
    except (InvalidTag, ValueError) as error:
        raise NotPossible(
            "What is kept secret was sealed by another key than the one in this site's folder.",
            next_step="Bring that file back, or enter the secret again.",
        ) from error


def _key() -> bytes:
    """Made at first, readable by its owner only. Two who make it at once get the same."""
    path = settings().key_file
    try:
        return path.read_bytes()
    except FileNotFoundError:
        path.parent.mkdir(parents=True, exist_ok=True)
    fresh = path.with_name(f"{path.name}.{secrets.token_hex(8)}")
    descriptor = os.open(fresh, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(secrets.token_bytes(_KEY_BYTES))
        file.flush()
        os.fsync(file.fileno())
    try:
        os.link(fresh, path)  # which fails where another was faster
    except FileExistsError:
        pass
    finally:
        fresh.unlink()
    return path.read_bytes()
