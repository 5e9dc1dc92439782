"""Every question to an outside system goes through here, bounded in total time, in bytes, and in number at
once.

One event loop in a thread of its own, with one kept client, asks for this whole process: only there can a
question be cut off wherever it stands, also while its headers come in a byte at a time.
"""

from __future__ import annotations

import asyncio
import atexit
import json
import ssl
import threading
from collections.abc import Coroutine
from concurrent.futures import Future
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Any, TypeVar

import aiohttp

from foldbarn.core.errors import Unreachable

MOST_AT_ONCE = 192  # questions under way in this process
KEPT_SECONDS = 4.0  # that a connection with nothing to do stays open; servers commonly close theirs after 5
CLOSING_SECONDS = 2.0  # that closing the connections may take as the process ends
MOST_FOR_STRANGERS = 6  # of these, to addresses that someone has just typed or announced
_making = threading.Lock()
Found = TypeVar("Found")


@dataclass(frozen=True, slots=True)
class Bounds:
    """seconds: from the first byte sent to the last received; bytes: of the answer; stranger: asked for an
    address that is not known yet.
    """

    seconds: float
    bytes: int
    stranger: bool = False


@dataclass(frozen=True, slots=True)
class Answer:
    """A whole answer."""

    status: int
    content: bytes
    kind: str  # its Content-Type
    tag: str = ""  # its ETag

    @property
    def is_error(self) -> bool:
        return self.status >= 400

    def json(self) -> Any:
        """Raises ValueError for anything that is not JSON, nested too deep included."""
        try:
            return json.loads(self.content)
        except RecursionError as error:
            raise ValueError("nested too deep") from error


def ask(
    method: str, url: str, bounds: Bounds, *, body: Any = None, auth: tuple[str, str] | None = None
) -> Answer:
    """Asks and waits. Raises Unreachable."""
    loop, outbound = _outbound()
    asked = outbound.ask(method, url, bounds, body, auth)
    return asyncio.run_coroutine_threadsafe(asked, loop).result()


async def ask_here(method: str, url: str, bounds: Bounds, headers: dict[str, str] | None = None) -> Answer:
    """The same, for what runs on the client's own loop (`there`)."""
    _, outbound = _outbound()
    return await outbound.ask(method, url, bounds, None, None, headers)


def there(work: Coroutine[Any, Any, Found]) -> Future[Found]:
    """Runs this on the client's own loop. One step over for many questions costs less than one for each."""
    loop, _ = _outbound()
    return asyncio.run_coroutine_threadsafe(work, loop)


class _Outbound:
    """The client and its gates; made and used on the loop's thread only."""

    def __init__(self) -> None:
        # Agents are on the storage network: no proxy is asked. The context is made once: that takes longer
        # than a question. Nothing is unpacked: what unpacks to more than its bytes would pass the bound.
        self.client = aiohttp.ClientSession(
            connector=aiohttp.TCPConnector(
                limit=MOST_AT_ONCE, ssl=ssl.create_default_context(), keepalive_timeout=KEPT_SECONDS
            ),
            cookie_jar=aiohttp.DummyCookieJar(),
            auto_decompress=False,
            trust_env=False,
            timeout=aiohttp.ClientTimeout(),  # each question has its own bound
            headers={"Accept-Encoding": "identity"},
        )
        self.gate = asyncio.Semaphore(MOST_AT_ONCE)
        self.strangers = 0

    async def ask(
        self,
        method: str,
        url: str,
        bounds: Bounds,
        body: Any,
        auth: tuple[str, str] | None,
        headers: dict[str, str] | None = None,
    ) -> Answer:
        if not bounds.stranger:
            return await self._bounded(method, url, bounds, body, auth, headers)
        if self.strangers >= MOST_FOR_STRANGERS:
            raise Unreachable(
                "Too many questions to new addresses are under way.",
                about=url,
                next_step="Try again in a moment.",
            )
        self.strangers += 1
        try:
            return await self._bounded(method, url, bounds, body, auth, headers)
        finally:
            self.strangers -= 1

    async def _bounded(
        self,
        method: str,
        url: str,
        bounds: Bounds,
        body: Any,
        auth: tuple[str, str] | None,
        headers: dict[str, str] | None = None,
    ) -> Answer:
        try:
            async with self.gate, asyncio.timeout(bounds.seconds):  # its time begins when it is its turn
                return await self._read(method, url, bounds, body, auth, headers)
        except TimeoutError as error:
            raise Unreachable(f"No answer within {bounds.seconds:g} s.", about=url) from error
        except aiohttp.ClientConnectorError as error:
            raise Unreachable("Nothing listens at its address.", about=url) from error
        except aiohttp.ClientResponseError as error:
            raise Unreachable("What answers there does not speak HTTP.", about=url) from error
        except (aiohttp.ClientError, OSError, ValueError) as error:
            raise Unreachable("The connection broke off.", about=url) from error

    async def _read(
        self,
        method: str,
        url: str,
        bounds: Bounds,
        body: Any,
        auth: tuple[str, str] | None,
        headers: dict[str, str] | None = None,
    ) -> Answer:
        told = dict(headers or {})
        if auth:
            told["Authorization"] = aiohttp.encode_basic_auth(*auth, encoding="utf-8")
        async with self.client.request(method, url, json=body, headers=told, allow_redirects=False) as answer:
            parts, size = [], 0
            async for part in answer.content.iter_any():
                size += len(part)
                if size > bounds.bytes:
                    answer.close()  # the rest is not waited for
                    words = f"Its answer is longer than {bounds.bytes:,} bytes, and was not read further."
                    raise Unreachable(words, about=url)
                parts.append(part)
            kind, tag = answer.headers.get("content-type", ""), answer.headers.get("etag", "")
        return Answer(answer.status, b"".join(parts), kind, tag)


@lru_cache
def _made() -> tuple[asyncio.AbstractEventLoop, _Outbound]:
    """The loop, and the client on it."""
    loop = asyncio.new_event_loop()
    threading.Thread(target=loop.run_forever, name="outbound", daemon=True).start()

    async def make() -> _Outbound:
        return _Outbound()

    outbound = asyncio.run_coroutine_threadsafe(make(), loop).result()
    atexit.register(partial(_close, loop, outbound))
    return loop, outbound


def _close(loop: asyncio.AbstractEventLoop, outbound: _Outbound) -> None:
    asyncio.run_coroutine_threadsafe(outbound.client.close(), loop).result(CLOSING_SECONDS)


def _outbound() -> tuple[asyncio.AbstractEventLoop, _Outbound]:
    """One for the process, whoever asks first: a client works on its own loop only."""
    with _making:
        return _made()
