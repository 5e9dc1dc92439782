"""Connections, sessions, and telling everyone that something changed."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import Any

import psycopg
import structlog
from psycopg.errors import DiskFull
from sqlalchemy import Engine, create_engine, event, text, update
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.exc import (
    DataError,
    DBAPIError,
    DisconnectionError,
    IntegrityError,
    OperationalError,
)
from sqlalchemy.orm import Session
from sqlalchemy.pool import ConnectionPoolEntry

from foldbarn.settings import settings
from foldbarn.store.tables import SiteRow

__all__ = [
    "DataError",
    "IntegrityError",
    "OperationalError",
    "Session",
    "advisory_lock",
    "announce",
    "engine",
    "forget_connections",
    "glance",
    "is_disconnect",
    "is_full",
    "snapshot",
    "tell",
    "transaction",
    "wait_for_database",
    "wait_out",
]
CHANNEL = "foldbarn"
UNUSED_SECONDS = 1.0  # after which a connection may have been closed at the other end
FULL_SECONDS = 2.0  # between two tries while there is no room
log = structlog.get_logger()


@lru_cache
def engine() -> Engine:
    # Plans made while a table was still empty would be kept for prepared statements, and read it whole ever
    # after: plan for what is asked each time.
    options = {"options": "-c plan_cache_mode=force_custom_plan"}
    made = create_engine(
        settings().database_url, pool_use_lifo=True, pool_size=10, max_overflow=20, connect_args=options
    )
    event.listen(made, "checkout", _see_whether_it_lives)
    event.listen(made, "checkin", _note_when_left)
    return made


def _note_when_left(_: object, record: ConnectionPoolEntry) -> None:
    record.info["left"] = time.monotonic()


def _see_whether_it_lives(connection: DBAPIConnection, record: ConnectionPoolEntry, _: object) -> None:
    """The pool's own look, before each use, takes as long as what is asked most: one that was used just now
    lives. Raises DisconnectionError, upon which the pool takes another.
    """
    left = record.info.get("left")
    if left is None or time.monotonic() - left < UNUSED_SECONDS:
        return
    try:
        engine().dialect.do_ping(connection)
    except Exception as error:
        raise DisconnectionError("it was closed meanwhile") from error


class Glance:
    """A connection of its own for the question that is asked most of all: whether the site is as it was. A
    session for it takes twelve times as long.
    """

    def __init__(self) -> None:
        self.lock = threading.Lock()
        self.connection: psycopg.Connection[tuple[Any, ...]] | None = None

    def revision(self) -> int | None:
        """Of the site, as it stands; None where that is to be asked in the usual way, which says what is
        amiss.
        """
        try:
            row = self._connected().execute("select revision from site").fetchone()
        except psycopg.Error:
            self.close()
            return None
        return None if row is None else int(row[0])

    def _connected(self) -> psycopg.Connection[tuple[Any, ...]]:
        with self.lock:
            if self.connection is None:
                self.connection = psycopg.connect(settings().plain_database_url, autocommit=True)
            return self.connection

    def close(self) -> None:
        with self.lock:
            if self.connection is not None:
                self.connection.close()
            self.connection = None


@lru_cache
def glance() -> Glance:
    return Glance()


def forget_connections() -> None:
    """Ends all of this process's; those that are wanted after that go to where the settings say then."""
    if engine.cache_info().currsize:
        engine().dispose()
    engine.cache_clear()
    glance().close()


@contextmanager
def transaction() -> Iterator[Session]:
    """A session that commits at the end, or writes nothing."""
    with Session(engine(), expire_on_commit=False) as session, session.begin():
        yield session


@contextmanager
def snapshot() -> Iterator[Session]:
    """A session that sees the database at one moment."""
    with Session(engine().execution_options(isolation_level="REPEATABLE READ")) as session:
        yield session


@contextmanager
def advisory_lock(space: int, number: int) -> Iterator[bool]:
    """Tries to hold a lock for as long as this lasts, on a connection of its own; whether it is held. It is
    free again when its holder dies.
    """
    key = {"space": space, "number": number}
    with engine().connect() as holder:
        held = bool(holder.scalar(text("select pg_try_advisory_lock(:space, :number)"), key))
        holder.commit()
        try:
            yield held
        finally:
            if held and not holder.closed and not holder.invalidated:
                try:
                    holder.execute(text("select pg_advisory_unlock(:space, :number)"), key)
                    holder.commit()
                except Exception as error:  # the lock went with its connection
                    log.info("lock already gone", space=space, number=number, error=str(error)[:120])


def announce(session: Session, *topics: str) -> None:
    """Bumps the site's revision and tells all listeners which topics changed, when this transaction commits.

    Call it last in a transaction: it locks the site's row.
    """
    session.flush()
    revision = session.scalar(
        update(SiteRow).values(revision=SiteRow.revision + 1).returning(SiteRow.revision)
    )
    tell(session, *topics, revision=revision)


def tell(session: Session, *topics: str, revision: int | None = None) -> None:
    """Tells listeners of progress that leaves the site's shape as it is."""
    told = session.info.setdefault("told", set())
    if revision is None and told.issuperset(topics):
        return  # they hear of it once, when this transaction commits
    told.update(topics)
    session.execute(
        text("select pg_notify(:channel, :payload)"),
        {"channel": CHANNEL, "payload": json.dumps({"topics": topics, "revision": revision})},
    )


def wait_for_database(seconds: float = 60.0) -> None:
    """Returns once the database answers; raises what it said last when it does not in time."""
    deadline = time.monotonic() + seconds
    while True:
        try:
            with engine().connect() as connection:
                connection.execute(text("select 1"))
            return
        except OperationalError:
            if time.monotonic() > deadline:
                raise
            time.sleep(0.3)


def is_full(error: BaseException) -> bool:
    """Whether an error means that there is no room left where the database lies."""
    return isinstance(error, DBAPIError) and isinstance(error.orig, DiskFull)


def wait_out(error: BaseException) -> None:
    """After an error that is to be waited out (`is_disconnect`): returns when the same may be tried again."""
    if is_full(error):
        log.error("no room left where the database lies; waiting for some")
        time.sleep(FULL_SECONDS)
    wait_for_database()


def is_disconnect(error: BaseException) -> bool:
    """Whether an error means that the database went away, or has no room, so that the same may be tried
    again.
    """
    return isinstance(error, OperationalError) or (
        isinstance(error, DBAPIError) and error.connection_invalidated
    )
