"""Sending mail over SMTP (RFC 5321), with the standard library."""

from __future__ import annotations

import smtplib
from email.message import EmailMessage
from email.utils import formatdate, make_msgid

from foldbarn.core.errors import Unreachable
from foldbarn.settings import settings

PATIENCE_SECONDS = 5.0


def send_mail(to: str, subject: str, text: str) -> None:
    """One plain message. Raises Unreachable where no mail host is set, or it does not take the message."""
    host, _, port = settings().mail_host.partition(":")
    if not host:
        raise Unreachable("No mail host is set.", about="mail_to", next_step="Set FOLDBARN_MAIL_HOST.")
    message = EmailMessage()
    message["From"], message["To"], message["Subject"] = settings().mail_from, to, subject
    message["Date"], message["Message-ID"] = (
        formatdate(),
        make_msgid(domain=settings().mail_from.partition("@")[2]),
    )
    message.set_content(text)
    try:
        with smtplib.SMTP(host, int(port or 25), timeout=PATIENCE_SECONDS) as server:
            server.send_message(message)
    except (OSError, smtplib.SMTPException) as error:
        raise Unreachable(
            f"The mail host {host} did not take the message: {type(error).__name__}.", about="mail_to"
        ) from error
