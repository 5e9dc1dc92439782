"""What stands before every route: who may ask, how large and of what shape a body may be, and what a browser
is told.

Fold Barn listens on this machine only, where any page that someone has open can reach it too. So nothing that
alters anything, or makes it ask others, is answered to another origin's page; and it is never a form or a
plain text that does.
"""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from foldbarn.api.changes.models import Problem
from foldbarn.api.errors import answer
from foldbarn.core.units import MB

LARGEST_BODY = 64 * MB  # inventory files in one batch
LARGEST_WISH = 10 * MB  # of any other route: a site's text is the longest
MOST_VALUES = 200_000  # JSON values of a body; what stands inside its texts does not count
DEEPEST = 64
LONGEST_NUMBER = 400  # digits; Python itself refuses 4,300
FILES = "/api/intake/files"
OWN_NAMES = frozenset({"127.0.0.1", "localhost", "::1"})
SAFE = frozenset({"GET", "HEAD", "OPTIONS"})

POLICIES = {
    # Styles may stand in the page: the component library puts them there. Scripts may not.
    "content-security-policy": (
        "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
        "font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    ),
    "x-content-type-options": "nosniff",
    "referrer-policy": "no-referrer",
    "permissions-policy": "camera=(), geolocation=(), microphone=(), payment=(), usb=()",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
}

_STRING = re.compile(rb'"(?:[^"\\]|\\.)*"?', re.DOTALL)
_BRACKET = re.compile(rb"[\[\]{}]")
_LONG_NUMBER = re.compile(rb"[0-9]{%d}" % LONGEST_NUMBER)


class Policies:
    """Tells browsers, with every answer, what the pages may do."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        async def told(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in POLICIES.items():
                    headers.setdefault(name, value)
            await send(message)

        await self.app(scope, receive, told if scope["type"] == "http" else send)


class OwnHosts:
    """Answers only to names of this machine."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http" and not _is_own(Headers(scope=scope).get("host", "")):
            words = "Fold Barn answers to names of this machine only."
            problem = Problem(title="Not understood", status=400, detail=words, about="host")
            await answer(problem)(scope, receive, send)
            return
        await self.app(scope, receive, send)


def _is_own(host: str) -> bool:
    try:
        return urlsplit(f"//{host}").hostname in OWN_NAMES
    except ValueError:
        return False


class OwnOrigin:
    """Refuses what another origin's page sends, and what is no JSON. Programs, which name no origin, are
    answered.
    """

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        problem = _strange(scope) if scope["type"] == "http" else None
        await (answer(problem) if problem else self.app)(scope, receive, send)


def _strange(scope: Scope) -> Problem | None:
    headers = Headers(scope=scope)
    if scope["method"] in SAFE:
        return None
    site, origin = headers.get("sec-fetch-site", "none"), headers.get("origin")
    own = headers.get("host", "")
    if site not in ("same-origin", "none") or (origin is not None and urlsplit(origin).netloc != own):
        words = "This was sent by a page that is not Fold Barn's own."
        return Problem(title="Not allowed", status=403, detail=words, about="origin")
    kind = headers.get("content-type", "").partition(";")[0].strip().lower()
    has_body = headers.get("content-length", "0") != "0" or "transfer-encoding" in headers
    if has_body and kind != "application/json":
        words = "What is sent here is JSON, and says so in its Content-Type."
        return Problem(title="Not understood", status=415, detail=words, about="body")
    return None


class Limit:
    """Refuses bodies that are too large or of a shape that nothing here has, before anything is built from
    them.
    """

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http" or scope["method"] in SAFE:
            await self.app(scope, receive, send)
            return
        most = LARGEST_BODY if scope["path"] == FILES else LARGEST_WISH
        said = Headers(scope=scope).get("content-length", "")
        announced = int(said) if said.isascii() and said.isdigit() and len(said) < 20 else 0
        body = None if announced > most else await _read(receive, most)
        problem = _too_large(most) if body is None else _misshapen(body)
        if body is None or problem is not None:
            await answer(problem or _too_large(most))(scope, receive, send)
            return
        await self.app(scope, _again(body, receive), send)


async def _read(receive: Receive, most: int) -> bytes | None:
    """The whole body, or None where it is larger than that."""
    parts: list[bytes] = []
    size = 0
    while True:
        message = await receive()
        if message["type"] != "http.request":
            return b"".join(parts)
        part = message.get("body", b"")
        size += len(part)
        if size > most:
            return None
        parts.append(part)
        if not message.get("more_body"):
            return b"".join(parts)


def _again(body: bytes, receive: Receive) -> Receive:
    """Gives a body that was read to whoever asks next."""
    given = False

    async def give() -> Message:
        nonlocal given
        if given:
            return await receive()
        given = True
        return {"type": "http.request", "body": body, "more_body": False}

    return give


def _too_large(most: int) -> Problem:
    words = f"What was sent is larger than {most // MB} MB."
    return Problem(title="Too large", status=413, detail=words, about="body", next_step="Send less at once.")


def _misshapen(body: bytes) -> Problem | None:
    """What is wrong with the shape of a JSON text, its strings left aside; None where nothing is."""
    bare = _STRING.sub(b"", body)
    values = bare.count(b",") + bare.count(b"[") + bare.count(b"{")
    if values > MOST_VALUES:
        words = f"What was sent holds more than {MOST_VALUES:,} values."
        return Problem(
            title="Too large", status=413, detail=words, about="body", next_step="Send less at once."
        )
    depth = deepest = 0
    for bracket in _BRACKET.findall(bare):
        depth += 1 if bracket in b"[{" else -1
        deepest = max(deepest, depth)
    if deepest > DEEPEST:
        words = f"What was sent nests deeper than {DEEPEST} levels."
        return Problem(title="Not possible", status=422, detail=words, about="body")
    if _LONG_NUMBER.search(bare):
        words = f"What was sent holds a number of {LONGEST_NUMBER} digits or more."
        return Problem(title="Not possible", status=422, detail=words, about="body")
    return None
