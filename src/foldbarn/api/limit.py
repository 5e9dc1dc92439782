"""Refuses bodies that are too large, before they are read into memory."""

from __future__ import annotations

import contextlib

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from foldbarn.api.errors import answer
from foldbarn.api.models import Problem
from foldbarn.core.units import MB

LARGEST_BODY = 64 * MB


class Limit:
    """A body beyond 64 MB is answered with 413, whether its length is said beforehand or not."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        said = next((v for k, v in scope["headers"] if k == b"content-length"), b"")
        if said.isdigit() and int(said) > LARGEST_BODY:
            await _refuse(scope, receive, send)
            return
        read = 0
        begun = False

        async def counted() -> Message:
            nonlocal read
            message = await receive()
            read += len(message.get("body", b""))
            if read > LARGEST_BODY:
                raise _TooLarge
            return message

        async def noted(message: Message) -> None:
            nonlocal begun
            if read <= LARGEST_BODY or begun:  # what the application makes of a body cut off is not the answer
                begun = True
                await send(message)

        with contextlib.suppress(_TooLarge):
            await self.app(scope, counted, noted)
        if read > LARGEST_BODY and not begun:
            await _refuse(scope, receive, send)


class _TooLarge(Exception):
    """More was sent than is read."""


async def _refuse(scope: Scope, receive: Receive, send: Send) -> None:
    problem = Problem(
        title="Too large", status=413, detail=f"What was sent is larger than {LARGEST_BODY // MB} MB.", about="body", next_step="Send fewer files at once.",
    )  # fmt: skip
    await answer(problem)(scope, receive, send)
