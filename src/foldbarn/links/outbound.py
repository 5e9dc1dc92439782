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
from collections.abc import Coroutine, Iterator
from concurrent.futures import Future
from dataclasses import dataclass
from functools import lru_cache, partial
from http import HTTPStatus
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
    method: str,
    url: str,
    bounds: Bounds,
    *,
    body: Any = None,
    auth: tuple[str, str] | None = None,
    headers: dict[str, str] | None = None,
    trust: ssl.SSLContext | None = None,
) -> Answer:
    """Asks and waits. trust: what its certificate has to go back to; what is commonly trusted when None.
    Raises Unreachable.
    """
    loop, outbound = _outbound()
    asked = outbound.ask(method, url, bounds, body, auth, headers, trust)
    return asyncio.run_coroutine_threadsafe(asked, loop).result()


async def ask_here(method: str, url: str, bounds: Bounds, headers: dict[str, str] | None = None) -> Answer:
    """The same, for what runs on the client's own loop (`there`)."""
    _, outbound = _outbound()
    return await outbound.ask(method, url, bounds, None, None, headers)


def there(work: Coroutine[Any, Any, Found]) -> Future[Found]:
    """Runs this on the client's own loop. One step over for many questions costs less than one for each."""
    loop, _ = _outbound()
    return asyncio.run_coroutine_threadsafe(work, loop)


@dataclass(frozen=True, slots=True)
class StreamBounds:
    """seconds: without a byte, after which it is held to be broken; line_bytes: of one line; waiting: lines
    that may wait to be taken, before no more are read.
    """

    seconds: float
    line_bytes: int
    waiting: int = 1000


class Stream:
    """An answer that goes on, line by line. Closed when it is left."""

    def __init__(
        self, url: str, bounds: StreamBounds, headers: dict[str, str], trust: ssl.SSLContext | None
    ) -> None:
        self._loop, outbound = _outbound()
        self._waiting: asyncio.Queue[bytes | Answer | Unreachable | None] = asyncio.Queue(bounds.waiting)
        pumped = outbound.pump(url, bounds, headers, trust, self._waiting)
        self._pumping = asyncio.run_coroutine_threadsafe(pumped, self._loop)

    def __enter__(self) -> Stream:
        return self

    def __exit__(self, *_: object) -> None:
        self._pumping.cancel()

    def stop(self) -> None:
        """From any thread: whoever reads it is at its end."""
        self._pumping.cancel()
        asyncio.run_coroutine_threadsafe(self._waiting.put(None), self._loop)

    def batches(self) -> Iterator[list[bytes]]:
        """Lines as they come, those together that wait together. Raises Refused where it answers otherwise,
        and Unreachable.
        """
        while True:
            took = asyncio.run_coroutine_threadsafe(self._take(), self._loop).result()
            lines = [one for one in took if isinstance(one, bytes)]
            if lines:
                yield lines
            last = took[-1]
            if isinstance(last, Answer):
                raise Refused(last)
            if isinstance(last, Unreachable):
                raise last
            if last is None:
                return

    async def _take(self) -> list[bytes | Answer | Unreachable | None]:
        found = [await self._waiting.get()]
        while not self._waiting.empty() and isinstance(found[-1], bytes):
            found.append(self._waiting.get_nowait())
        return found


class Refused(Exception):
    """A stream was asked for, and an answer of another kind came."""

    def __init__(self, answer: Answer) -> None:
        super().__init__(f"status {answer.status}")
        self.answer = answer


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
        trust: ssl.SSLContext | None = None,
    ) -> Answer:
        if not bounds.stranger:
            return await self._bounded(method, url, bounds, body, auth, headers, trust)
        if self.strangers >= MOST_FOR_STRANGERS:
            raise Unreachable(
                "Too many questions to new addresses are under way.",
                about=url,
                next_step="Try again in a moment.",
            )
        self.strangers += 1
        try:
            return await self._bounded(method, url, bounds, body, auth, headers, trust)
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
        trust: ssl.SSLContext | None = None,
    ) -> Answer:
        try:
            async with self.gate, asyncio.timeout(bounds.seconds):  # its time begins when it is its turn
                return await self._read(method, url, bounds, body, auth, headers, trust)
        except TimeoutError as error:
            raise Unreachable(f"No answer within {bounds.seconds:g} s.", about=url) from error
        except (aiohttp.ClientError, OSError, ValueError) as error:
            raise _why(error, url) from error

    async def _read(
        self,
        method: str,
        url: str,
        bounds: Bounds,
        body: Any,
        auth: tuple[str, str] | None,
        headers: dict[str, str] | None = None,
        trust: ssl.SSLContext | None = None,
    ) -> Answer:
        told = dict(headers or {})
        if auth:
            told["Authorization"] = aiohttp.encode_basic_auth(*auth, encoding="utf-8")
        asking = self.client.request(
            method, url, json=body, headers=told, allow_redirects=False, ssl=trust or True
        )
        async with asking as answer:
            return await _whole(answer, url, bounds.bytes)

    async def pump(
        self,
        url: str,
        bounds: StreamBounds,
        headers: dict[str, str],
        trust: ssl.SSLContext | None,
        into: asyncio.Queue[bytes | Answer | Unreachable | None],
    ) -> None:
        """Puts each line of an answer into a queue, and at its end None or why it ended."""
        last: Answer | Unreachable | None = None
        try:
            asking = self.client.get(url, headers=headers, allow_redirects=False, ssl=trust or True)
            async with asyncio.timeout(bounds.seconds):
                answer = await asking
            async with answer:
                if answer.status != HTTPStatus.OK:
                    last = await _whole(answer, url, bounds.line_bytes)
                else:
                    await _lines(answer, url, bounds, into)
        except TimeoutError:
            last = Unreachable(f"Nothing came for {bounds.seconds:g} s.", about=url)
        except Unreachable as error:
            last = error
        except (aiohttp.ClientError, OSError, ValueError) as error:
            last = _why(error, url)
        await into.put(last)


async def _whole(answer: aiohttp.ClientResponse, url: str, most: int) -> Answer:
    """All of an answer. Raises Unreachable where that is more than so many bytes."""
    parts, size = [], 0
    async for part in answer.content.iter_any():
        size += len(part)
        if size > most:
            answer.close()  # the rest is not waited for
            words = f"Its answer is longer than {most:,} bytes, and was not read further."
            raise Unreachable(words, about=url)
        parts.append(part)
    kind, tag = answer.headers.get("content-type", ""), answer.headers.get("etag", "")
    return Answer(answer.status, b"".join(parts), kind, tag)


async def _lines(
    answer: aiohttp.ClientResponse,
    url: str,
    bounds: StreamBounds,
    into: asyncio.Queue[bytes | Answer | Unreachable | None],
) -> None:
    rest = b""
    while True:
        async with asyncio.timeout(bounds.seconds):
            part = await answer.content.readany()
        if not part:
            if rest:
                await into.put(rest)
            return
        *lines, rest = (rest + part).split(b"\n")
        if max(map(len, [*lines, rest])) > bounds.line_bytes:
            words = f"A line of it is longer than {bounds.line_bytes:,} bytes, and was not read further."
            raise Unreachable(words, about=url)
        for line in lines:
            await into.put(line)


def _why(error: Exception, url: str) -> Unreachable:
    """Why a question came to nothing, in a sentence."""
    match error:
        case aiohttp.ClientConnectorCertificateError():
            return Unreachable("Its certificate goes back to none that is trusted for it.", about=url)
        case aiohttp.ClientSSLError():
            return Unreachable("What answers there does not speak TLS.", about=url)
        case aiohttp.ClientConnectorError():
            return Unreachable("Nothing listens at its address.", about=url)
        case aiohttp.ClientResponseError():
            return Unreachable("What answers there does not speak HTTP.", about=url)
    return Unreachable("The connection broke off.", about=url)


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
