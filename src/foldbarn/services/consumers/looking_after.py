"""Who looks after which orchestrator: one process at a time, with threads for each that is connected."""

from __future__ import annotations

import json
import threading
import time

import psycopg
import structlog

from foldbarn.services.consumers.following import Following
from foldbarn.settings import settings
from foldbarn.store import orchestrators
from foldbarn.store.database import CHANNEL, advisory_lock, is_disconnect, transaction

log = structlog.get_logger()
LOCK = 0xC1A1
AGAIN_SECONDS = 1.0
NEWS_SECONDS = 1.0  # for which news is waited
UNASKED_SECONDS = 10.0  # after which all is looked at without any
ALL_THE_TIME = frozenset({"work", "samples", "heat"})  # what is told of, and nothing of a claim follows from


def look_after_orchestrators(ending: threading.Event) -> None:
    """Until it is to end. Another process that does it is waited for."""
    while not ending.is_set():
        try:
            with advisory_lock(LOCK, 0) as held:
                if held:
                    _keep(ending)
        except Exception as error:
            if not is_disconnect(error) and not isinstance(error, psycopg.Error):
                log.exception("looking after orchestrators failed")
        ending.wait(AGAIN_SECONDS)


def _keep(ending: threading.Event) -> None:
    followed: dict[int, Following] = {}
    try:
        with psycopg.connect(settings().plain_database_url, autocommit=True) as news:
            news.execute(f"listen {CHANNEL}")
            looked = -UNASKED_SECONDS
            while not ending.is_set():
                heard = any(map(_matters, news.notifies(timeout=NEWS_SECONDS, stop_after=1)))
                if heard or time.monotonic() - looked >= UNASKED_SECONDS:
                    looked = time.monotonic()
                    follow(followed)
    finally:
        for one in followed.values():
            one.stop()


def _matters(told: psycopg.Notify) -> bool:
    return not ALL_THE_TIME.issuperset(json.loads(told.payload)["topics"])


def follow(followed: dict[int, Following]) -> None:
    """Begins with what was connected, leaves what is no more, and lets each look at what is new here."""
    with transaction() as session:
        altered = orchestrators.all_altered(session)
    for number in list(followed):
        if altered.get(number) != followed[number].altered or not followed[number].lives:
            followed.pop(number).stop()
    for number in altered.keys() - followed.keys():
        one = Following.of(number)
        if one is not None:
            followed[number] = one
            one.start()
    for one in followed.values():
        one.poke()
