"""A stand-in mail host (SMTP): takes every message and keeps the last ones, so that one can see what was
sent.
"""

from __future__ import annotations

from collections import deque
from email import message_from_bytes
from typing import Any

from aiosmtpd.controller import Controller

MOST = 50


class PostBox:
    """What has arrived, newest last."""

    def __init__(self) -> None:
        self.messages: deque[dict[str, str]] = deque(maxlen=MOST)

    async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:
        message = message_from_bytes(envelope.content)
        body = message.get_payload(decode=True)
        text = body.decode("utf-8", "replace") if isinstance(body, bytes) else ""
        self.messages.append(
            {"to": ", ".join(envelope.rcpt_tos), "subject": str(message["Subject"]), "text": text.strip()}
        )
        return "250 OK"


def open_post(box: PostBox, port: int) -> Controller:
    """Serves on loopback until its stop()."""
    controller = Controller(box, hostname="127.0.0.1", port=port)
    controller.start()
    return controller
