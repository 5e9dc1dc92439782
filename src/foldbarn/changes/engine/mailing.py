"""Mail from Fold Barn: by the server that a person has named, else by that of the settings."""

from __future__ import annotations

import time

from foldbarn.links.mail import Letter, MailServer, send, server_of_settings
from foldbarn.sealed import fresh_secret, unseal
from foldbarn.store import alerts
from foldbarn.store.database import transaction

MARK_BYTES = 12


def mail_server() -> MailServer:
    """Raises Unreachable where nobody has named any."""
    with transaction() as session:
        row = alerts.mail_server(session)
    if row is None:
        return server_of_settings()
    return MailServer(
        host=row.host,
        port=row.port,
        sender=row.sender,
        encrypted=row.encrypted,
        trusted=row.trusted,
        account=row.account,
        password=unseal(row.sealed) if row.sealed else "",
    )


def send_mail(to: str, subject: str, text: str) -> None:
    """One message in plain text. Raises Unreachable where it is not taken."""
    letter = Letter(to=to, subject=subject, text=text, mark=fresh_secret(MARK_BYTES), made=time.time())
    send(mail_server(), letter)
