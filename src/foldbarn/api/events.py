"""PostgreSQL NOTIFY, passed on as server-sent events. One listener a process; slow readers are told less
often, never wrongly.
"""

from __future__ import annotations

import asyncio
import json
import secrets
from collections import deque
from collections.abc import AsyncIterator, Iterable
from dataclasses import dataclass, field

import psycopg
import structlog
from fastapi.sse import ServerSentEvent

from foldbarn.settings import settings
from foldbarn.store.database import CHANNEL

log = structlog.get_logger()
GATHER_SECONDS = 0.1  # news within this time goes out as one event
REMEMBERED = 4096  # news that a page which comes back can still be told
EVERYTHING = "everything"


@dataclass(eq=False, slots=True)
class Page:
    """An open page, and the topics it has not been told yet: a set, so that none is lost however slowly it
    reads.
    """

    topics: set[str] = field(default_factory=set)
    news: asyncio.Event = field(default_factory=asyncio.Event)


class Listener:
    """Hears the database's notices and hands their topics to every open page.

    News is numbered. A page that was away names the last number it heard, and is told what it missed; one
    that was away for too long, or heard that number from another process, is told that everything may have
    changed.
    """

    def __init__(self) -> None:
        self._pages: set[Page] = set()
        self._epoch = secrets.token_hex(4)  # tells this process's numbers from another's
        self._number = 0  # of the newest news
        self._past: deque[tuple[int, str]] = deque(maxlen=REMEMBERED)

    async def run(self) -> None:
        """Until cancelled; connects again when the database comes back, and then tells pages to read
        everything anew.
        """
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    settings().plain_database_url, autocommit=True
                ) as connection:
                    await connection.execute(f"listen {CHANNEL}")
                    self.tell([EVERYTHING])
                    async for notice in connection.notifies():
                        self.tell(json.loads(notice.payload)["topics"])
            except (psycopg.Error, OSError) as error:
                log.info("listener lost the database", error=str(error)[:120])
                await asyncio.sleep(0.5)

    def tell(self, topics: Iterable[str]) -> None:
        """Numbers news, and wakes every page."""
        for topic in topics:
            self._number += 1
            self._past.append((self._number, topic))
            for page in self._pages:
                page.topics.add(topic)
        for page in self._pages:
            page.news.set()

    def missed(self, last: str | None) -> set[str]:
        """The topics of all news after the event that a page heard last; everything where that cannot be
        told.
        """
        epoch, _, number = (last or "").partition("-")
        if epoch != self._epoch or not (number.isascii() and number.isdecimal() and len(number) < 20):
            return {EVERYTHING}
        heard = int(number)
        oldest = self._past[0][0] if self._past else self._number + 1
        if heard > self._number or heard < oldest - 1:
            return {EVERYTHING}
        return {topic for at, topic in self._past if at > heard}

    async def events(self, last: str | None = None) -> AsyncIterator[ServerSentEvent]:
        """Events for one page: first what it missed, then topics as they change. last: the id of the event it
        heard last.
        """
        page = Page(topics=self.missed(last))
        self._pages.add(page)
        try:
            while True:
                topics, page.topics = page.topics, set()
                page.news.clear()
                event = f"{self._epoch}-{self._number}"
                yield ServerSentEvent(id=event, event="news", data={"topics": sorted(topics)})
                await page.news.wait()
                await asyncio.sleep(GATHER_SECONDS)
        finally:
            self._pages.discard(page)
