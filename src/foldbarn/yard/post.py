"""A stand-in mail server (SMTP): takes every message and keeps the last ones, so that one can see what was
sent. It can be asked to encrypt (RFC 3207) and to sign in (RFC 4954), to refuse, and to say nothing.
"""

from __future__ import annotations

import asyncio
import base64
import ssl
import tempfile
from collections import deque
from datetime import UTC, datetime, timedelta
from email import message_from_bytes, policy
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult, LoginPassword
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

MOST = 50
ACCOUNT, PASSWORD = "fold-barn", "open sesame, quietly"  # of whoever wants to sign in
SILENT_SECONDS = 60.0
HOST = "127.0.0.1"


class PostBox:
    """What has arrived, newest last. how: it takes mail well, refuses it for now, or is silent. certificate:
    by which it is known (PEM).
    """

    def __init__(self) -> None:
        self.messages: deque[dict[str, str | bool]] = deque(maxlen=MOST)
        self.how = "well"
        self.certificate = ""

    async def handle_DATA(self, _server: Any, session: Any, envelope: Any) -> str:
        if self.how == "refuses":
            return "451 4.3.0 This server takes nothing now"
        if self.how == "silent":
            await asyncio.sleep(SILENT_SECONDS)
        message = message_from_bytes(envelope.content, policy=policy.default)
        body = message.get_body(("plain",))
        pictures = [part for part in message.iter_attachments() if part.get_content_type() == "image/png"]
        picture = base64.b64encode(pictures[0].get_content()).decode() if pictures else ""
        account = session.auth_data.decode() if session.authenticated else ""
        self.messages.append(
            {
                "to": ", ".join(envelope.rcpt_tos),
                "subject": str(message["Subject"]),
                "text": str(body.get_content()).replace("\r\n", "\n").strip() if body else "",
                "mark": str(message["Message-ID"]),
                "picture": picture,
                "encrypted": session.ssl is not None,
                "account": account,
            }
        )
        return "250 OK"


def _signs_in(*said: Any) -> AuthResult:
    """server, session, envelope, mechanism, and what was said."""
    proof = said[-1]
    known = isinstance(proof, LoginPassword) and (proof.login, proof.password) == (
        ACCOUNT.encode(),
        PASSWORD.encode(),
    )
    return AuthResult(success=known, handled=False, auth_data=proof.login if known else None)


def open_post(box: PostBox, port: int) -> Controller:
    """Serves on loopback until its stop()."""
    certificate, key = _own_certificate()
    box.certificate = certificate
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "server.pem"
        file.touch(mode=0o600)
        file.write_text(certificate + key)
        context.load_cert_chain(file)
    controller = Controller(
        box,
        hostname=HOST,
        port=port,
        tls_context=context,
        authenticator=_signs_in,
        auth_require_tls=True,
    )
    controller.start()
    return controller


def _own_certificate() -> tuple[str, str]:
    """A certificate that it has signed itself, and its key; both PEM."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "post.skerry.example")])
    begins = datetime.now(UTC) - timedelta(days=1)
    names = [x509.IPAddress(ip_address(HOST)), x509.DNSName("localhost")]
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(begins + timedelta(days=3650))
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .sign(key, hashes.SHA256())
    )
    encoding = serialization.Encoding.PEM
    kept = key.private_bytes(encoding, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    return made.public_bytes(encoding).decode(), kept.decode()
