"""Sending mail over SMTP (RFC 5321), encrypted (RFC 3207) and signed in (RFC 4954) where that is asked for;
with the standard library.
"""

from __future__ import annotations

import smtplib
import ssl
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import formatdate

from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.settings import settings

PATIENCE_SECONDS = 5.0
DEFAULT_PORT = 25


@dataclass(frozen=True, slots=True)
class MailServer:
    """Who takes mail. encrypted: nothing is said to it otherwise; trusted: certificates (PEM) by which it is
    known, beside those of this machine; account, password: to sign in with, empty for no need.
    """

    host: str
    port: int
    sender: str
    encrypted: bool = False
    trusted: str = ""
    account: str = ""
    password: str = ""


@dataclass(frozen=True, slots=True)
class Letter:
    """mark: tells it from all others, however often it is sent. made: seconds since 1970. picture: a PNG that
    goes with it; empty for none.
    """

    to: str
    subject: str
    text: str
    mark: str
    made: float
    picture: bytes = b""


def server_of_settings() -> MailServer:
    """Raises Unreachable where none is set."""
    host, _, port = settings().mail_host.partition(":")
    if not host:
        raise Unreachable(
            "No mail host is set.",
            about="mail_to",
            next_step="Say on the page of routes which server takes mail.",
        )
    return MailServer(host, int(port or DEFAULT_PORT), settings().mail_from)


def send(server: MailServer, letter: Letter) -> None:
    """One message. Raises Unreachable where the server does not take it, and NotPossible where what is
    trusted is no certificate.
    """
    try:
        with smtplib.SMTP(server.host, server.port, timeout=PATIENCE_SECONDS) as link:
            if server.encrypted:
                link.starttls(context=_context(server.trusted))
            if server.account:
                link.login(server.account, server.password)
            link.send_message(_message(server, letter))
    except (OSError, smtplib.SMTPException) as error:
        words = f"The mail server {server.host} did not take the message: {_why(error)}."
        raise Unreachable(words, about="mail_to") from error


def _message(server: MailServer, letter: Letter) -> EmailMessage:
    message = EmailMessage()
    message["From"], message["To"], message["Subject"] = server.sender, letter.to, letter.subject
    message["Date"] = formatdate(letter.made)
    message["Message-ID"] = f"<{letter.mark}@{server.sender.partition('@')[2] or 'localhost'}>"
    message.set_content(letter.text)
    if letter.picture:
        message.add_attachment(letter.picture, maintype="image", subtype="png", filename="curve.png")
    return message


def _context(trusted: str) -> ssl.SSLContext:
    context = ssl.create_default_context()
    if trusted:
        try:
            context.load_verify_locations(cadata=trusted)
        except (ssl.SSLError, ValueError) as error:
            raise NotPossible("What is to be trusted is no certificate.", about="trusted") from error
    return context


def _why(error: Exception) -> str:
    """In the server's own words where it has any."""
    code: int
    said: bytes | str
    match error:
        case smtplib.SMTPRecipientsRefused():
            code, said = next(iter(error.recipients.values()), (0, b""))
        case smtplib.SMTPResponseException():
            code, said = error.smtp_code, error.smtp_error
        case smtplib.SMTPServerDisconnected() if not isinstance(error.__context__, TimeoutError):
            return "it closed the connection"
        case TimeoutError() | smtplib.SMTPServerDisconnected():
            return f"no answer within {PATIENCE_SECONDS:g} s"
        case ssl.SSLCertVerificationError():
            return f"its certificate is not trusted ({error.verify_message})"
        case smtplib.SMTPNotSupportedError():
            return "it does not offer what is asked of it, such as encrypting or signing in"
        case OSError():
            return error.strerror or type(error).__name__
        case _:
            return type(error).__name__
    words = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
    return f"{code} {words}"[:200]
