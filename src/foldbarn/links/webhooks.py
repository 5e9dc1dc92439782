"""Telling another program over HTTP, signed so that it can know who tells, and that it was told once: an HTTP
message signature with a shared secret (RFC 9421, hmac-sha256) over the method, the address, a digest of the
content (RFC 9530) and a mark of the message, with the time when it was made.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import time
from collections.abc import Sequence
from typing import Any

import httpx

from foldbarn.core.errors import Unreachable

PATIENCE_SECONDS = 5.0
MARK = "idempotency-key"
COVERED = ("@method", "@target-uri", "content-digest", "content-type", MARK)
KEY_NAME = "fold-barn"


def signature_base(values: Sequence[tuple[str, str]], parameters: str) -> str:
    """What is signed (RFC 9421, section 2.5): each component with its value, then which they are."""
    lines = [f'"{name}": {value}' for name, value in values]
    return "\n".join([*lines, f'"@signature-params": {parameters}'])


def signature_parameters(names: Sequence[str], created: int, key: str) -> str:
    covered = " ".join(f'"{name}"' for name in names)
    return f'({covered});created={created};keyid="{key}";alg="hmac-sha256"'


def signed(base: str, secret: bytes) -> str:
    """In base 64."""
    return base64.b64encode(hmac.new(secret, base.encode(), hashlib.sha256).digest()).decode()


def headers_of(url: str, content: bytes, mark: str, secret: bytes, created: int) -> dict[str, str]:
    """All that goes with a message, its signature among it."""
    digest = base64.b64encode(hashlib.sha256(content).digest()).decode()
    found = {"content-type": "application/json", "content-digest": f"sha-256=:{digest}:", MARK: f'"{mark}"'}
    values = [(name, {"@method": "POST", "@target-uri": url}.get(name) or found[name]) for name in COVERED]
    parameters = signature_parameters(COVERED, created, KEY_NAME)
    signature = signed(signature_base(values, parameters), secret)
    return found | {"signature-input": f"barn={parameters}", "signature": f"barn=:{signature}:"}


def post(url: str, said: dict[str, Any], mark: str, secret: str) -> None:
    """Raises Unreachable where it is not taken."""
    content = json.dumps(said).encode()
    try:
        headers = headers_of(url, content, mark, secret.encode(), int(time.time()))
        with httpx.Client(timeout=PATIENCE_SECONDS, trust_env=False, follow_redirects=False) as client:
            answer = client.post(url, content=content, headers=headers)
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise Unreachable(
            f"{url} did not take the message: {type(error).__name__}.", about="target"
        ) from error
    if not answer.is_success:
        raise Unreachable(f"{url} answered {answer.status_code}.", about="target")
