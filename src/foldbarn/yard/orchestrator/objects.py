"""What the orchestrator keeps: every object as it is, in one file, and what has happened to them lately."""

from __future__ import annotations

import asyncio
import json
import sqlite3
from collections import deque
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TypeVar

from foldbarn.yard.orchestrator.kinds import BY_KIND, Kind
from foldbarn.yard.orchestrator.refusing import Refused, Thing

T = TypeVar("T")
Key = tuple[str, str, str]  # kind, namespace (empty where it has none), name
REMEMBERED = 5_000  # things that happened to a kind, which a watch can go on from
IN_ROUND = 1_000  # things of a kind that one look at the whole looks at, though nothing became of them


@dataclass(frozen=True, slots=True)
class Happened:
    """version: of everything, with this. now: None where it is gone; was: None where it was not there."""

    version: int
    key: Key
    now: Thing | None
    was: Thing | None

    @property
    def last(self) -> Thing:
        """The thing as it is or, where it is gone, as it was, with the version of this."""
        thing = self.now or self.was
        assert thing is not None
        return {**thing, "metadata": {**thing["metadata"], "resourceVersion": str(self.version)}}


@dataclass(slots=True)
class Look:
    """What has become other than it was since the last look: each thing as it is or, where it is gone, as it
    was. whole: all there is counts as changed; of what there may be tens of thousands a part each time, in
    turn. first: really all.
    """

    changed: dict[Key, Thing] = field(default_factory=dict)
    whole: bool = False
    first: bool = False

    def touches(self, *kinds: Kind) -> bool:
        """Whether anything of these kinds is among it."""
        return self.whole or any(key[0] in {kind.kind for kind in kinds} for key in self.changed)

    def of(self, kind: Kind) -> list[Thing]:
        return [thing for key, thing in self.changed.items() if key[0] == kind.kind]


def _mark(marks: set[T], one: T, is_so: bool) -> None:
    if is_so:
        marks.add(one)
    else:
        marks.discard(one)


class Objects:
    """One version counts everything that happens, and each object has that with which it became what it is
    (API conventions, "Concurrency Control and Consistency"). Used in one thread only.
    """

    def __init__(self, file: Path | str = ":memory:", remembered: int = REMEMBERED) -> None:
        self._things: dict[str, dict[tuple[str, str], Thing]] = {kind: {} for kind in BY_KIND}
        # By kind, so that what comes of one, such as a flood of events, makes nobody forget another.
        self._log: dict[str, deque[Happened]] = {kind: deque() for kind in BY_KIND}
        self._remembered = remembered
        self._waiting: set[asyncio.Event] = set()
        self._look = Look(whole=True, first=True)
        self._rounds: dict[str, list[tuple[str, str]]] = {kind: [] for kind in BY_KIND}  # still to look at
        # What is asked for often, of which there may be tens of thousands.
        self.uids: set[str] = set()
        self.owned: set[Key] = set()  # by others
        self.leaving: set[Key] = set()  # they are to go
        self.unbound: set[Key] = set()  # claims
        self.meant_for: dict[tuple[str, str], set[str]] = {}  # names of volumes, by the claim they are for
        self.unclaimed: set[str] = set()  # names of volumes
        self._file = sqlite3.connect(file, isolation_level=None, check_same_thread=False)
        self._file.execute("pragma synchronous = off")  # a machine that loses power loses its stand-ins
        self._file.execute("pragma journal_mode = wal")
        self._file.execute(
            "create table if not exists thing "
            "(kind text, space text, name text, said text, primary key (kind, space, name))"
        )
        self._file.execute("create table if not exists fact (name text primary key, said text)")
        for kind, space, name, said in self._file.execute("select * from thing"):
            thing = self._things[kind][space, name] = json.loads(said)
            self._index((kind, space, name), None, thing)
        self.version = int(self.fact("version") or 1)
        self.forgotten = 0  # times
        # From which on all that happened to a kind is remembered.
        self.oldest = dict.fromkeys(BY_KIND, self.version)

    def fact(self, name: str) -> str:
        """Something else that is kept; empty where it is not."""
        found = self._file.execute("select said from fact where name = ?", (name,)).fetchone()
        return str(found[0]) if found else ""

    def keep_fact(self, name: str, said: str) -> None:
        self._file.execute("insert or replace into fact values (?, ?)", (name, said))

    def find(self, kind: Kind, space: str, name: str) -> Thing | None:
        return self._things[kind.kind].get((space, name))

    def get(self, kind: Kind, space: str, name: str) -> Thing:
        """Raises Refused."""
        found = self.find(kind, space, name)
        if found is None:
            words = f'{kind.said} "{name}" not found'
            raise Refused("NotFound", words, group=kind.group, plural=kind.plural, name=name)
        return found

    def all(self, kind: Kind, space: str = "") -> list[Thing]:
        """Of a namespace, or everywhere."""
        return [thing for (where, _), thing in self._things[kind.kind].items() if space in ("", where)]

    def put(self, kind: Kind, thing: Thing) -> Thing:
        """Keeps a thing as it is now; returns it with its version."""
        self.version += 1
        metadata = thing["metadata"]
        now = {**thing, "metadata": {**metadata, "resourceVersion": str(self.version)}}
        space, name = metadata.get("namespace", ""), metadata["name"]
        was = self._things[kind.kind].get((space, name))
        self._things[kind.kind][space, name] = now
        said = json.dumps(now)
        self._file.execute("insert or replace into thing values (?, ?, ?, ?)", (kind.kind, space, name, said))
        self._happened(Happened(self.version, (kind.kind, space, name), now, was))
        return now

    def drop(self, kind: Kind, thing: Thing) -> Thing:
        """A thing is gone; returns it as it was last, with the version of its going."""
        self.version += 1
        metadata = thing["metadata"]
        space, name = metadata.get("namespace", ""), metadata["name"]
        place = (kind.kind, space, name)
        gone = Happened(self.version, place, None, self._things[kind.kind].pop((space, name)))
        self._file.execute("delete from thing where kind = ? and space = ? and name = ?", place)
        self._happened(gone)
        return gone.last

    def next_in_round(self, kind: Kind) -> list[tuple[str, str]]:
        """Where the next part of a kind is, in a round that goes through all of it again and again."""
        left = self._rounds[kind.kind] or list(self._things[kind.kind])
        self._rounds[kind.kind] = left[IN_ROUND:]
        return left[:IN_ROUND]

    def take_look(self) -> Look:
        """What has changed since this was asked last."""
        found, self._look = self._look, Look()
        return found

    def _index(self, key: Key, was: Thing | None, now: Thing | None) -> None:
        kind = key[0]
        if was is not None and now is None:
            self.uids.discard(was["metadata"]["uid"])
        if now is not None:
            self.uids.add(now["metadata"]["uid"])
        metadata = now["metadata"] if now is not None else {}
        _mark(self.owned, key, bool(metadata.get("ownerReferences")))
        _mark(self.leaving, key, bool(metadata.get("deletionTimestamp")))
        if kind == "PersistentVolumeClaim":
            _mark(self.unbound, key, now is not None and now["status"].get("phase") != "Bound")
        if kind == "PersistentVolume":
            name = key[2]
            for thing, there in ((was, False), (now, True)):
                to = (thing or {}).get("spec", {}).get("claimRef")
                if to:
                    _mark(self.meant_for.setdefault((to["namespace"], to["name"]), set()), name, there)
            _mark(self.unclaimed, name, now is not None and not now["spec"].get("claimRef"))

    def _happened(self, one: Happened) -> None:
        log = self._log[one.key[0]]
        log.append(one)
        self._index(one.key, one.was, one.now)
        self._look.changed[one.key] = one.last
        if len(log) > self._remembered:
            self.oldest[one.key[0]] = log.popleft().version
        self.keep_fact("version", str(self.version))
        for waiting in self._waiting:
            waiting.set()

    def forget(self) -> None:
        """What happened is remembered no more: who wants to go on from before has to look anew."""
        for log in self._log.values():
            log.clear()
        self.forgotten += 1
        self.oldest = dict.fromkeys(BY_KIND, self.version)

    def since(self, version: int, kind: Kind) -> Iterator[Happened]:
        """What happened to a kind after a version. Raises Refused where that is not remembered any more."""
        oldest = self.oldest[kind.kind]
        if version < oldest:
            raise Refused("Expired", f"too old resource version: {version} ({oldest})")
        later: list[Happened] = []
        for one in reversed(self._log[kind.kind]):
            if one.version <= version:
                break
            later.append(one)
        return reversed(later)

    def as_of(self, version: int, kind: Kind, space: str) -> list[Thing]:
        """All of a kind as it was with a version. Raises Refused where that is not remembered any more."""
        found = {
            (thing["metadata"].get("namespace", ""), thing["metadata"]["name"]): thing
            for thing in self.all(kind, space)
        }
        for one in reversed(list(self.since(version, kind))):
            place = one.key[1:]
            if one.was is None:
                found.pop(place, None)
            elif space in ("", place[0]):
                found[place] = one.was
        return list(found.values())

    async def news(self, waiting: asyncio.Event, seconds: float) -> None:
        """Waits until something happens, or for so long."""
        self._waiting.add(waiting)
        try:
            await asyncio.wait_for(waiting.wait(), seconds)
        except TimeoutError:
            pass
        finally:
            self._waiting.discard(waiting)
            waiting.clear()

    def close(self) -> None:
        self._file.close()
