"""What the stand-ins are and hold now: power, disks in or out, strips on disks, orders, counters; kept in one
SQLite file.
"""

from __future__ import annotations

import json
import secrets
import sqlite3
import threading
import time
import zlib
from collections import Counter, defaultdict
from copy import copy
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from foldbarn.core.arrays import Reals
from foldbarn.core.volumes.pace import BOUNDS, COUNTED
from foldbarn.yard import shares, vm_hosts
from foldbarn.yard.hosts import Made, StandInHost, from_kept, skerry_hosts, to_keep
from foldbarn.yard.names import NameServer
from foldbarn.yard.past import Past, is_held
from foldbarn.yard.scenario import WITNESS, StandInDisk, StandInNode
from foldbarn.yard.serving import Load
from foldbarn.yard.thin import Filling

Strip = tuple[int, int, int]  # ply number, extent, strip


PAST_SECONDS = 10.0  # of our own time, between two writings of what is kept of a volume's past


@dataclass(slots=True)
class Copying:
    """One strip of a copy order. `moved` bytes are lost when the power goes before the strip is whole.

    reads: what is read, and from which disk (by serial): a copy, or as many strips of the extent as make the
    one that is missing. along: the row in its order of the strip whose reading serves this one as well.
    """

    strip: Strip
    size: int
    reads: list[tuple[str, Strip]]
    target: str  # serial
    along: int | None = None
    moved: float = 0.0
    done: bool = False
    data: int = 1  # strips of data in its extent, where it is written anew from another ply
    at: int = 0  # the snapshot, by number, as of which another volume is read; 0 for its present


@dataclass(slots=True)
class Order:
    """An instruction as accepted; `state` is running, done, failed or cancelled."""

    id: str
    node: str
    kind: str
    body: dict[str, Any]
    state: str = "running"
    problem: str = ""
    copies: list[Copying] = field(default_factory=list)
    bytes_total: float = 0.0  # of an order that is no list of strips
    bytes_done: float = 0.0


@dataclass(slots=True)
class Council:
    """What the stand-in nodes know of their cluster: who decides, who leads. One at a time; the name is empty
    where there is none.
    """

    name: str = ""
    prepared: list[str] = field(default_factory=list)
    members: list[str] = field(default_factory=list)
    keepers: list[str] = field(default_factory=list)
    witness: str = ""
    leader: str = ""
    term: int = 0
    address: str = ""  # the service address, once published
    leaderless: float = 0.0  # seconds for which nobody has led


@dataclass(frozen=True, slots=True)
class Spurt:
    """A speed that lasts until a moment of the yard's clock; then: the speed that follows."""

    until: float
    then: float


@dataclass(slots=True)
class Counters:
    """Totals since the disk was made; they only grow."""

    read_bytes: float = 0.0
    written_bytes: float = 0.0


@dataclass(slots=True)
class Landing:
    """An area that takes what consumers write first. lands_for: the ply that the data of its volume was first
    written to; bytes: of that data; copies: of what lands; waiting: bytes that have not settled.
    """

    lands_for: int
    bytes: int
    copies: int
    waiting: float = 0.0


@dataclass(slots=True)
class PlyFacts:
    """What the nodes know of a ply. bytes: of a strip; born: the yard's time when it was made; first: the ply
    that its data was first written to; data: strips of data in an extent.
    """

    bytes: int = 0
    born: float = 0.0
    first: int = 0
    data: int = 1


@dataclass(slots=True)
class _Written:
    """A large mapping as JSON, of which only what is other than it was is written anew: with each order all
    of it would take longer than the order.
    """

    parts: dict[str, tuple[Any, str]] = field(default_factory=dict)

    def of(self, mapping: dict[str, Any]) -> str:
        for gone in self.parts.keys() - mapping.keys():
            del self.parts[gone]
        for key, value in mapping.items():
            known = self.parts.get(key)
            if known is None or known[0] != value:
                self.parts[key] = copy(value), f"{json.dumps(key)}: {json.dumps(value)}"
        return f"{{{', '.join(text for _, text in self.parts.values())}}}"


def _no_work() -> dict[int, Reals]:
    return defaultdict(lambda: np.zeros(len(COUNTED) + len(BOUNDS) + 1))


class Machines:
    """All stand-ins. Changes are written to the file by flush(), in one transaction."""

    def __init__(self, nodes: list[StandInNode], file: Path | str = ":memory:") -> None:
        self.nodes = {n.name: n for n in nodes}
        self.disks: dict[str, StandInDisk] = {d.serial: d for n in nodes for d in n.disks}
        self.boxed: dict[str, list[StandInDisk]] = defaultdict(list)  # node -> disks of boxes that it reaches
        for disk in self.disks.values():
            self.cable(disk, *disk.shared_with)
        self.node_of: dict[str, str] = {d.serial: n.name for n in nodes for d in n.disks}
        self.power: dict[str, bool] = dict.fromkeys([*self.nodes, WITNESS], True)
        self.answers: dict[str, str] = dict.fromkeys(self.nodes, "well")  # well, slowly, garbled
        self.pulled: set[str] = set()
        self.pool_of: dict[str, str] = {}  # serial -> pool label it was prepared for
        self.strips: dict[str, set[Strip]] = defaultdict(set)
        self.held: dict[str, Counter[int]] = defaultdict(Counter)  # serial -> strips by ply
        self.orders: dict[str, Order] = {}
        self.counters: dict[str, Counters] = {serial: Counters() for serial in self.disks}
        self.lit: set[str] = set()  # location lights
        self.site_of: dict[str, str] = {}  # serial -> mark of the site that prepared it
        self.cleared: set[str] = set()  # serials of disks that no longer carry what they came with
        self.addresses: dict[str, list[str]] = {}  # node:port -> addresses it was given
        self.shut: set[tuple[str, int]] = set()  # node and port that its firewall lets nothing in on
        self.council = Council()
        self.bound: dict[
            str, str
        ] = {}  # serial of a capacity disk -> serial of the cache device that serves it
        self.sealed: set[str] = set()  # serials of disks that hold everything encrypted
        self.units: dict[str, int] = {}  # by serial of a disk that compresses, bytes of its units
        self.throttles: dict[
            str, tuple[float, str]
        ] = {}  # node/name -> bytes per second (0: no limit), who goes first
        self.plies: dict[str, PlyFacts] = {}  # by number
        self.landings: dict[str, Landing] = {}  # by ply number
        # by node and ply: operations and bytes a second that consumers may ask; 0 for no limit
        self.limits: dict[str, dict[str, tuple[float, float]]] = {}
        # by node and ply, what cache devices do: none, read, write-back
        self.caching: dict[str, dict[int, str]] = defaultdict(dict)
        # the same, the room in memory that a ply shares with others, and bytes of that
        self.remembering: dict[str, dict[int, tuple[str, int]]] = defaultdict(dict)
        # by node, plies of which consumers may use nothing
        self.withheld: dict[str, set[int]] = defaultdict(set)
        self.terms: dict[str, str] = {}  # by node, the id of the order that last altered what it goes by
        # By the ply that data was first written to: seconds of the yard's time for which it was withheld.
        self.idle: dict[int, float] = defaultdict(float)
        self.thin: dict[int, int] = {}  # by first ply of a thin volume, its strips of data
        self.filling: dict[int, Filling] = {}  # the same volumes, as they stood when last looked at
        self.closed: dict[int, set[int]] = defaultdict(set)  # by ply, extents that nobody may write yet
        # By first ply and strip of data: how long its consumers had worked (asked) when it was opened.
        self.opened: dict[int, dict[int, float]] = defaultdict(dict)
        self.in_cache: dict[str, float] = {}  # by serial of a disk, bytes that wait for it on its device
        # By the ply that data was first written to: for how long its consumers would have worked at the
        # height of a rush, in seconds.
        self.asked: dict[str, float] = defaultdict(float)
        # By node and ply, since the stand-ins were started: COUNTED, and operations by the time they took.
        self.work: dict[str, dict[int, Reals]] = defaultdict(_no_work)
        self.pasts: dict[int, Past] = {}  # by the ply that holds what was overwritten of a volume
        self.past_due = 0.0  # seconds since it was looked at what is overwritten
        # by ply, when its past was last written, on our own clock; and those that have changed since
        self.past_kept: dict[int, float] = {}
        self.past_owed: set[int] = set()
        # By the ply that data was first written to: until when consumers' writes wait, for a snapshot.
        self.on_hold: dict[int, float] = {}
        # By node and port, since the stand-ins were started: bytes sent, and received.
        self.traffic: dict[str, list[float]] = defaultdict(lambda: [0.0, 0.0])
        self.load = Load()
        self.moved: set[int] = set()  # plies whose strips have moved since the load knew where they lie
        self.stirred: set[str] = set()  # serials of the disks that these moved from or to
        self.row_of: dict[str, int] = {}  # of a disk in the load, by serial
        self.hosts: dict[str, StandInHost] = {host.name: host for host in skerry_hosts()}
        self.vm_hosts = vm_hosts.skerry_vm_hosts()
        self.files = shares.FileService()
        self.names = NameServer()
        self.share_on: dict[int, tuple[str, int]] = {}  # by first ply of a volume, its share, and its bytes
        self.share_plies: dict[str, list[int]] = {}  # by share
        self.memories: dict[str, str] = {}  # by disk, the UUID of the virtual machine whose memory it holds
        # By node: what it serves to hosts, and by which order.
        self.serving: dict[str, dict[str, Any]] = {}
        self.made: dict[str, Made] = {}  # file systems, by what kernels know their disk by
        self.made_before: list[Made] = []  # those that others were made over, oldest first
        self.brought: dict[int, Made] = {}  # by first ply of a copy, what its original carried then
        self.keys: dict[str, str] = {n: secrets.token_hex(32) for n in self.nodes}  # each agent's own secret
        self.speed = 1.0
        self.spurt: Spurt | None = None
        self.consumers = 1.0  # what they want, against what they usually do
        self.clock = 0.0  # seconds of the yard's own time
        self.advancing = threading.Lock()  # by its server's ticks, and by whoever else lets its time pass
        self._writes: list[tuple[str, tuple[Any, ...]]] = []
        self._kept: dict[str, str] = {}  # small facts, as they were queued last
        self._written_plies, self._written_opened = _Written(), _Written()
        self._file = sqlite3.connect(file, check_same_thread=False)
        self._open()

    # Keeping. ------------------------------------------------------------------------------------

    def _open(self) -> None:
        self._file.executescript(
            """
            pragma journal_mode = wal; pragma synchronous = normal;
            create table if not exists fact (name text primary key, value text not null);
            create table if not exists strip (
                disk text, ply int, extent int, strip int, primary key (disk, ply, extent, strip)
            ) without rowid;
            create table if not exists past (
                ply int primary key, first int, room int, marks text, kept text, wrote blob
            );
            create table if not exists orders (
                id text primary key, node text, kind text, body text, state text, problem text, done text
            );
            """
        )
        self._take_over()
        facts = {
            name: json.loads(value) for name, value in self._file.execute("select name, value from fact")
        }
        self.power.update({k: v for k, v in facts.get("power", {}).items() if k in self.power})
        self.pulled = set(facts.get("pulled", []))
        self.pool_of = facts.get("pool_of", {})
        self.site_of = facts.get("site_of", {})
        self.cleared, self.lit = set(facts.get("cleared", [])), set(facts.get("lit", []))
        self.addresses = facts.get("addresses", {})
        self.shut = {(node, port) for node, port in facts.get("shut", [])}
        self.council = Council(**facts.get("council", {}))
        self.bound, self.sealed = facts.get("bound", {}), set(facts.get("sealed", []))
        self.units = facts.get("units", {})
        self.throttles = {name: (rate, first) for name, (rate, first) in facts.get("throttles", {}).items()}
        self.plies = {
            ply: PlyFacts(size, born, *(first or [int(ply)])[:2])
            for ply, (size, born, *first) in facts.get("plies", facts.get("volumes", {})).items()
        }
        self.landings = {ply: Landing(**found) for ply, found in facts.get("landings", {}).items()}
        for node, limits in facts.get("limits", {}).items():
            self.limits[node] = {ply: (ops, size) for ply, (ops, size) in limits.items()}
        for node, found in facts.get("caching", {}).items():
            self.caching[node] = {int(ply): does for ply, does in found.items()}
        for node, found in facts.get("remembering", {}).items():
            self.remembering[node] = {int(ply): (room, size) for ply, (room, size) in found.items()}
        for node, plies in facts.get("withheld", {}).items():
            self.withheld[node] = set(plies)
        self.terms = facts.get("terms", {})
        for first, seconds in facts.get("idle", {}).items():
            self.idle[int(first)] = seconds
        self.in_cache = facts.get("in_cache", {})
        self.thin = {int(first): strips for first, strips in facts.get("thin", {}).items()}
        for ply, extents in facts.get("closed", {}).items():
            self.closed[int(ply)] = set(extents)
        for first, strips in facts.get("opened", {}).items():
            self.opened[int(first)] = {int(strip): asked for strip, asked in strips.items()}
        asked = facts.get("asked", {})
        self.asked.update(asked if isinstance(asked, dict) else {})  # a file of a version before has one sum
        self.hosts.update({name: from_kept(kept) for name, kept in facts.get("hosts", {}).items()})
        self.memories = facts.get("memories", {})
        self.files = shares.from_kept(facts.get("files", {}))
        if "names" in facts:
            self.names = NameServer(**facts["names"])
        shares.know_volumes(self)
        runs = facts.get("vm_hosts", {})
        self.vm_hosts.update({name: vm_hosts.from_kept(kept) for name, kept in runs.items()})
        self.serving = facts.get("serving", {})
        self.made = {disk: Made(**made) for disk, made in facts.get("made", {}).items()}
        self.made_before = [Made(**made) for made in facts.get("made_before", [])]
        self.brought = {int(first): Made(**made) for first, made in facts.get("brought", {}).items()}
        self.keys.update(facts.get("keys", {}))
        self.speed, self.consumers = facts.get("speed", 1.0), facts.get("consumers", 1.0)
        self.clock = facts.get("clock", 0.0)
        for serial, (read, written) in facts.get("counters", {}).items():
            self.counters[serial] = Counters(read, written)
        for disk, ply, extent, strip in self._file.execute("select disk, ply, extent, strip from strip"):
            self.strips[disk].add((ply, extent, strip))
            self.held[disk][ply] += 1
            self.moved.add(ply)
            self.stirred.add(disk)
        for ply, first, room, marks, kept, wrote in self._file.execute("select * from past"):
            said = json.loads(marks)
            if isinstance(said, list):  # a file of a version before has no others that read from it
                said = {"there": said, "read": []}
            past = Past(first, room, said["there"], np.frombuffer(zlib.decompress(wrote), np.int32).copy())
            past.read = set(said["read"])
            past.kept.update({(a, b): count for a, b, count in json.loads(kept)})
            self.pasts[ply] = past
        for id_, node, kind, body, state, problem, done in self._file.execute("select * from orders"):
            order = Order(id_, node, kind, json.loads(body), state, problem)
            order.copies = copies_of(order)
            for index in json.loads(done):
                order.copies[index].done = True
            self.orders[id_] = order

    def _take_over(self) -> None:
        """A file of the version before says "volume" where this one says "ply"."""
        columns = [row[1] for row in self._file.execute("pragma table_info(strip)")]
        if "volume" in columns:
            with self._file:
                self._file.execute("alter table strip rename column volume to ply")
                self._file.execute("""update orders set body = replace(body, '"volume":', '"ply":')""")

    @property
    def usual_speed(self) -> float:
        """Without what lasts for a while only."""
        return self.spurt.then if self.spurt is not None else self.speed

    def keep_facts(self, *, time_alone: bool = True) -> None:
        """Queues the small facts for writing. time_alone: also those that only time moves, which are written
        every second anyway.
        """
        facts: dict[str, Any] = {
            "power": self.power,
            "pulled": sorted(self.pulled),
            "pool_of": self.pool_of,
            "site_of": self.site_of,
            "cleared": sorted(self.cleared),
            "lit": sorted(self.lit),
            "addresses": self.addresses,
            "shut": sorted(self.shut),
            "council": asdict(self.council),
            "bound": self.bound,
            "sealed": sorted(self.sealed),
            "units": self.units,
            "throttles": self.throttles,
            "landings": {ply: asdict(found) for ply, found in self.landings.items()},
            "limits": self.limits,
            "caching": self.caching,
            "remembering": self.remembering,
            "withheld": {node: sorted(plies) for node, plies in self.withheld.items() if plies},
            "idle": self.idle,
            "terms": self.terms,
            "in_cache": self.in_cache,
            "thin": self.thin,
            "closed": {ply: sorted(extents) for ply, extents in self.closed.items() if extents},
            "hosts": {name: to_keep(host) for name, host in self.hosts.items()},
            "memories": self.memories,
            "files": shares.to_keep(self.files),
            "names": asdict(self.names),
            "vm_hosts": {name: vm_hosts.to_keep(one) for name, one in self.vm_hosts.items()},
            "serving": self.serving,
            "made": {disk: asdict(made) for disk, made in self.made.items()},
            "made_before": [asdict(made) for made in self.made_before],
            "brought": {first: asdict(made) for first, made in self.brought.items()},
            "keys": self.keys,
            "speed": self.usual_speed,
            "consumers": self.consumers,
        }
        if time_alone:
            facts |= {
                "clock": self.clock,
                "asked": self.asked,
                "counters": {s: tuple(asdict(c).values()) for s, c in self.counters.items()},
            }
        texts = {name: json.dumps(value) for name, value in facts.items()}
        plies = {ply: [f.bytes, f.born, f.first, f.data] for ply, f in self.plies.items()}
        texts["plies"] = self._written_plies.of(plies)
        texts["opened"] = self._written_opened.of({str(first): s for first, s in self.opened.items()})
        for name, value in texts.items():
            if self._kept.get(name) != value:
                self._kept[name] = value
                self._writes.append(("insert or replace into fact values (?, ?)", (name, value)))

    def keep_order(self, order: Order) -> None:
        done = [i for i, c in enumerate(order.copies) if c.done]
        row = (
            order.id,
            order.node,
            order.kind,
            json.dumps(order.body),
            order.state,
            order.problem,
            json.dumps(done),
        )
        self._writes.append(("insert or replace into orders values (?, ?, ?, ?, ?, ?, ?)", row))

    def keep_past_soon(self, ply: int) -> None:
        """The same, though not each second: of a large volume that is much to write. Who is killed meanwhile
        forgets a few seconds of what was overwritten.
        """
        if time.monotonic() - self.past_kept.get(ply, 0.0) > PAST_SECONDS:
            self.keep_past(ply)
        else:
            self.past_owed.add(ply)

    def keep_past(self, ply: int) -> None:
        """What is kept of the past of a volume; nothing where that is gone."""
        self.past_kept[ply] = time.monotonic()
        self.past_owed.discard(ply)
        past = self.pasts.get(ply)
        if past is None:
            self._writes.append(("delete from past where ply = ?", (ply,)))
            return
        kept = json.dumps([[*span, count] for span, count in past.kept.items()])
        wrote = zlib.compress(past.wrote.astype(np.int32).tobytes(), 1)
        marks = json.dumps({"there": past.marks, "read": sorted(past.read)})
        row = (ply, past.first, past.room, marks, kept, wrote)
        self._writes.append(("insert or replace into past values (?, ?, ?, ?, ?, ?)", row))

    def flush(self) -> None:
        """Writes what is queued, all or nothing. Raises sqlite3.Error where there is no room, say; then all
        of it stays queued.
        """
        if not self._writes:
            return
        with self._file:
            for statement, values in self._writes:
                self._file.execute(statement, values)
        self._writes = []

    def close(self) -> None:
        """Writes everything and lets the file go."""
        for ply in sorted(self.past_owed):
            self.keep_past(ply)
        self.keep_facts()
        self.flush()
        self._file.close()

    # Strips and disks. ---------------------------------------------------------------------------

    def add_strip(self, serial: str, strip: Strip) -> None:
        if strip not in self.strips[serial]:
            self.strips[serial].add(strip)
            self.held[serial][strip[0]] += 1
            self.moved.add(strip[0])
            self.stirred.add(serial)
            self._writes.append(("insert or ignore into strip values (?, ?, ?, ?)", (serial, *strip)))

    def drop_strip(self, serial: str, strip: Strip) -> None:
        if strip in self.strips[serial]:
            self.strips[serial].discard(strip)
            self.held[serial][strip[0]] -= 1
            self.moved.add(strip[0])
            self.stirred.add(serial)
            self._writes.append(
                (
                    "delete from strip where disk = ? and ply = ? and extent = ? and strip = ?",
                    (serial, *strip),
                )
            )

    def extents_open(self, ply: int, extents: set[int]) -> set[int]:
        """Those of some extents of a ply that consumers may write to already."""
        return (self._extents_held(ply) & extents) - self.closed[ply]

    def _extents_held(self, ply: int) -> set[int]:
        on = [serial for serial, held in self.held.items() if held[ply]]
        return {extent for serial in on for of, extent, _ in self.strips[serial] if of == ply}

    def forget_dropped(self, ply: int) -> None:
        """Of a ply, what no disk holds any more is neither open nor closed."""
        facts = self.facts_of(ply)
        if ply in self.pasts and not self.strips_of(ply):
            del self.pasts[ply]
            self.keep_past(ply)
        if self.closed.get(ply):
            self.closed[ply] &= self._extents_held(ply)
        if facts.first in self.thin and not self.holding(facts.first):
            self.thin.pop(facts.first)
            self.opened.pop(facts.first, None)

    def caches(self, serial: str, ply: int) -> str:
        """What the cache device of a disk does for a ply: none, read or write-back; none where it has no
        device that works.
        """
        device = self.bound.get(serial)
        if device is None or not self.works(device):
            return "none"
        return self.would_cache(serial, ply)

    def would_cache(self, serial: str, ply: int) -> str:
        """What the cache device of a disk, if it has one, is to do for a ply."""
        return self.caching.get(self.node_of[serial], {}).get(ply, "write-back")

    def out_of_use(self) -> set[int]:
        """Of data that some node withholds from its consumers, the plies that it was first written to: who
        cannot have all of a volume does nothing with the rest.
        """
        withheld = {self.facts_of(ply).first for plies in self.withheld.values() for ply in plies}
        held = {first for first in self.on_hold if is_held(self, first)}
        return withheld | held | shares.unused(self)

    def used_for(self, ply: int) -> float:
        """Seconds for which consumers could use what was written to a ply since it was made."""
        known = self.facts_of(ply)
        return self.clock - known.born - self.idle.get(known.first, 0.0)

    def let_ask(self, seconds: float) -> None:
        """What consumers would ask in so long at the height of a rush counts as asked, of every volume."""
        for first in {str(found.first) for found in self.plies.values()}:
            self.asked[first] += seconds

    def facts_of(self, ply: int | str) -> PlyFacts:
        """What is known of a ply; of one that nobody told of, nothing but its number."""
        return self.plies.get(str(ply)) or PlyFacts(first=int(ply))

    def strips_of(self, ply: int) -> int:
        """Strips of a ply on all disks."""
        return sum(held[ply] for held in self.held.values())

    def lying(self, first: int) -> list[tuple[int, int, str]]:
        """Plies of the data that was first written to this one, how many of its strips lie on a disk, and
        the disk's serial.
        """
        plies = {int(ply) for ply, found in self.plies.items() if found.first == first}
        plies -= {int(ply) for ply in self.landings}
        return [(ply, held[ply], serial) for serial, held in self.held.items() for ply in plies if held[ply]]

    def holding(self, first: int) -> dict[str, int]:
        """Strips by serial of what holds data that was first written to this ply."""
        found: dict[str, int] = defaultdict(int)
        for _, strips, serial in self.lying(first):
            found[serial] += strips
        return dict(found)

    def pass_on(self, node: str, *, sent: float = 0.0, received: float = 0.0) -> None:
        """So many bytes go out and come in through a node's storage ports that are up, as these are fast."""
        ports = [p for p in self.nodes[node].ports if p.up and p.purpose == "storage"] if node else []
        speed = sum(port.megabits for port in ports)
        for port in ports:
            counts = self.traffic[f"{node}:{port.name}"]
            counts[0] += sent * port.megabits / speed
            counts[1] += received * port.megabits / speed

    def forget_orders(self, node: str) -> None:
        """The lever for a careless agent: it forgets every order it was given."""
        for id_ in [o.id for o in self.orders.values() if o.node == node]:
            del self.orders[id_]
            self._writes.append(("delete from orders where id = ?", (id_,)))

    def works(self, serial: str) -> bool:
        """Whether a disk can be read and written now."""
        return (
            serial in self.disks
            and serial not in self.pulled
            and any(self.power[n] for n in self.nodes_of(serial))
        )

    def nodes_of(self, serial: str) -> tuple[str, ...]:
        """The nodes that reach a disk: the one it is built into, and others where it stands in a box of its
        own.
        """
        return (self.node_of[serial], *self.disks[serial].shared_with)

    def cable(self, disk: StandInDisk, *nodes: str) -> None:
        """These nodes reach a disk besides the one it is built into."""
        for node in disk.shared_with:
            if disk in self.boxed[node]:
                self.boxed[node].remove(disk)
        disk.shared_with = nodes
        for node in nodes:
            self.boxed[node].append(disk)

    def inside(self, node: str) -> list[StandInDisk]:
        """Disks that a node reaches now."""
        return [
            d for d in (*self.nodes[node].disks, *self.boxed.get(node, ())) if d.serial not in self.pulled
        ]

    def disk_at(self, name: str) -> str | None:
        """Serial of the disk called node-bay."""
        return next((s for s, d in self.disks.items() if f"{self.node_of[s]}-{d.bay}" == name), None)


def copies_of(order: Order) -> list[Copying]:
    """The strips of a copy order, from its body."""
    if order.kind != "copy":
        return []
    return [
        Copying(
            strip=(s["ply"], s["extent"], s["strip"]),
            size=s["bytes"],
            reads=[(r["disk"], _read(s, r)) for r in _reads_of(s)],
            target=s["to"],
            along=s.get("along"),
            data=s.get("data", 1),
            at=max((r.get("at", 0) for r in _reads_of(s)), default=0),
        )
        for s in order.body["strips"]
    ]


def _read(strip: dict[str, Any], read: dict[str, Any]) -> Strip:
    """The strip that is read: of the same extent, or of the ply and the extent that it names."""
    return (read.get("ply", strip["ply"]), read.get("extent", strip["extent"]), read["strip"])


def _reads_of(strip: dict[str, Any]) -> list[dict[str, Any]]:
    """An order of the version before, which may be under way still, names one copy to read."""
    if "reads" in strip:
        return list(strip["reads"])
    return [{"disk": strip["from"], "strip": strip["from_strip"]}]
