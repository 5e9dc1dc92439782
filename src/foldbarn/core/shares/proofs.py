"""How a password is kept: as something by which it is known again, and from which nobody learns it (scrypt,
RFC 7914).
"""

from __future__ import annotations

import base64
import hashlib
import hmac

from foldbarn.core.errors import NotPossible
from foldbarn.core.names import folded

SALT_BYTES, PASSWORD_BYTES = 16, 18
COST, BLOCK, LANES = 2**14, 8, 1  # 16 MiB and some tens of milliseconds for each try (RFC 7914, section 2)
LONGEST_USER = 64
_USER_PARTS = frozenset("abcdefghijklmnopqrstuvwxyz0123456789._-")


def proof_of(password: str, salt: bytes) -> str:
    """What nodes are told of a password; salt: SALT_BYTES random ones, of this user alone."""
    found = hashlib.scrypt(password.encode(), salt=salt, n=COST, r=BLOCK, p=LANES, dklen=32)
    return f"scrypt:{COST}:{BLOCK}:{LANES}:{_text(salt)}:{_text(found)}"


def proves(proof: str, password: str) -> bool:
    """Whether it is the password of which this is the proof."""
    try:
        how, cost, block, lanes, salt, wanted = proof.split(":")
        if how != "scrypt":
            return False
        found = hashlib.scrypt(
            password.encode(), salt=base64.b64decode(salt), n=int(cost), r=int(block), p=int(lanes), dklen=32
        )
    except ValueError:
        return False
    return hmac.compare_digest(found, base64.b64decode(wanted))


def _text(found: bytes) -> str:
    return base64.b64encode(found).decode()


def check_user(name: str) -> str:
    """Who signs in, in small letters: case does not tell users apart. Raises NotPossible."""
    found = folded(name.strip())
    if not found or len(found) > LONGEST_USER or not set(found) <= _USER_PARTS or not found[0].isalnum():
        words = f"'{name.strip()[:LONGEST_USER]}' cannot be a user."
        step = f"Use up to {LONGEST_USER} letters, digits, dots, hyphens and underscores, a letter first."
        raise NotPossible(words, about="user", next_step=step)
    return found
