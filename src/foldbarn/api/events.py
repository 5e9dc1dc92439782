"""PostgreSQL NOTIFY, passed on as server-sent events. One listener a process; slow readers are told less often, never wrongly."""

from __future__ import annotations

import asyncio
import contextlib
import json
from collections.abc import AsyncIterator

import psycopg
import structlog
from sse_starlette import EventSourceResponse, ServerSentEvent

from foldbarn.settings import settings
from foldbarn.store.database import CHANNEL

log = structlog.get_logger()
GATHER_SECONDS = 0.1  # news within this time goes out as one event
EVERYTHING = "everything"


class Listener:
    """Hears the database's notices and hands their topics to every open page."""

    def __init__(self) -> None:
        self._pages: set[asyncio.Queue[str]] = set()

    async def run(self) -> None:
        """Until cancelled; connects again when the database comes back, and then tells pages to read everything anew."""
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(
                    settings().plain_database_url, autocommit=True
                ) as connection:
                    await connection.execute(f"listen {CHANNEL}")
                    self._tell([EVERYTHING])
                    async for notice in connection.notifies():
                        self._tell(json.loads(notice.payload)["topics"])
            except (psycopg.Error, OSError) as error:
                log.info("listener lost the database", error=str(error)[:120])
                await asyncio.sleep(0.5)

    def _tell(self, topics: list[str]) -> None:
        for page in self._pages:
            for topic in topics:
                with contextlib.suppress(asyncio.QueueFull):
                    page.put_nowait(topic)

    async def events(self) -> AsyncIterator[ServerSentEvent]:
        """Events for one page: first "everything", then topics as they change."""
        page: asyncio.Queue[str] = asyncio.Queue(maxsize=1000)
        self._pages.add(page)
        try:
            number = 0
            topics = {EVERYTHING}
            while True:
                number += 1
                yield ServerSentEvent(
                    id=str(number), event="news", data=json.dumps({"topics": sorted(topics)})
                )
                topics = {await page.get()}
                await asyncio.sleep(GATHER_SECONDS)
                while not page.empty():
                    topics.add(page.get_nowait())
        finally:
            self._pages.discard(page)

    def response(self) -> EventSourceResponse:
        return EventSourceResponse(self.events(), ping=15)
