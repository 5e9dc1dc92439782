"""What the stand-ins are and hold now: power, disks in or out, strips on disks, orders, counters; kept in one SQLite file."""

from __future__ import annotations

import json
import sqlite3
from collections import defaultdict
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from foldbarn.yard.scenario import StandInDisk, StandInNode

Strip = tuple[int, int, int]  # volume number, extent, strip


@dataclass(slots=True)
class Copying:
    """One strip of a copy order. `moved` bytes are lost when the power goes before the strip is whole."""

    strip: Strip
    size: int
    source: str  # serial
    source_strip: Strip  # what is read there: another copy of the same extent
    target: str  # serial
    moved: float = 0.0
    done: bool = False


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


@dataclass(slots=True)
class Counters:
    """Totals since the disk was made; they only grow."""

    read_bytes: float = 0.0
    written_bytes: float = 0.0


class Machines:
    """All stand-ins. Changes are written to the file by flush(), in one transaction."""

    def __init__(self, nodes: list[StandInNode], file: Path | str = ":memory:") -> None:
        self.nodes = {n.name: n for n in nodes}
        self.disks: dict[str, StandInDisk] = {d.serial: d for n in nodes for d in n.disks}
        self.node_of: dict[str, str] = {d.serial: n.name for n in nodes for d in n.disks}
        self.power: dict[str, bool] = dict.fromkeys(self.nodes, True)
        self.answers: dict[str, str] = dict.fromkeys(self.nodes, "well")  # well, slowly, garbled
        self.pulled: set[str] = set()
        self.pool_of: dict[str, str] = {}  # serial -> pool label it was prepared for
        self.strips: dict[str, set[Strip]] = defaultdict(set)
        self.orders: dict[str, Order] = {}
        self.counters: dict[str, Counters] = {serial: Counters() for serial in self.disks}
        self.lit: set[str] = set()  # location lights
        self.speed = 1.0
        self.clock = 0.0  # seconds of the yard's own time
        self._writes: list[tuple[str, tuple[Any, ...]]] = []
        self._file = sqlite3.connect(file, check_same_thread=False)
        self._open()

    # Keeping. ------------------------------------------------------------------------------------

    def _open(self) -> None:
        self._file.executescript(
            """
            pragma journal_mode = wal; pragma synchronous = normal;
            create table if not exists fact (name text primary key, value text not null);
            create table if not exists strip (disk text, volume int, extent int, strip int, primary key (disk, volume, extent, strip)) without rowid;
            create table if not exists orders (id text primary key, node text, kind text, body text, state text, problem text, done text);
            """
        )
        facts = {name: json.loads(value) for name, value in self._file.execute("select name, value from fact")}
        self.power.update({k: v for k, v in facts.get("power", {}).items() if k in self.power})
        self.pulled = set(facts.get("pulled", []))
        self.pool_of = facts.get("pool_of", {})
        self.speed = facts.get("speed", 1.0)
        self.clock = facts.get("clock", 0.0)
        for serial, (read, written) in facts.get("counters", {}).items():
            self.counters[serial] = Counters(read, written)
        for disk, volume, extent, strip in self._file.execute("select disk, volume, extent, strip from strip"):
            self.strips[disk].add((volume, extent, strip))
        for id_, node, kind, body, state, problem, done in self._file.execute("select * from orders"):
            order = Order(id_, node, kind, json.loads(body), state, problem)
            order.copies = copies_of(order)
            for index in json.loads(done):
                order.copies[index].done = True
            self.orders[id_] = order

    def keep_facts(self) -> None:
        """Queues the small facts for writing."""
        facts: dict[str, Any] = {
            "power": self.power,
            "pulled": sorted(self.pulled),
            "pool_of": self.pool_of,
            "speed": self.speed,
            "clock": self.clock,
            "counters": {s: tuple(asdict(c).values()) for s, c in self.counters.items()},
        }
        for name, value in facts.items():
            self._writes.append(("insert or replace into fact values (?, ?)", (name, json.dumps(value))))

    def keep_order(self, order: Order) -> None:
        done = [i for i, c in enumerate(order.copies) if c.done]
        row = (order.id, order.node, order.kind, json.dumps(order.body), order.state, order.problem, json.dumps(done))
        self._writes.append(("insert or replace into orders values (?, ?, ?, ?, ?, ?, ?)", row))

    def flush(self) -> None:
        """Writes what is queued, all or nothing."""
        writes, self._writes = self._writes, []
        if not writes:
            return
        with self._file:
            for statement, values in writes:
                self._file.execute(statement, values)

    # Strips and disks. ---------------------------------------------------------------------------

    def add_strip(self, serial: str, strip: Strip) -> None:
        if strip not in self.strips[serial]:
            self.strips[serial].add(strip)
            self._writes.append(("insert or ignore into strip values (?, ?, ?, ?)", (serial, *strip)))

    def drop_strip(self, serial: str, strip: Strip) -> None:
        if strip in self.strips[serial]:
            self.strips[serial].discard(strip)
            self._writes.append(("delete from strip where disk = ? and volume = ? and extent = ? and strip = ?", (serial, *strip)))

    def forget_orders(self, node: str) -> None:
        """The lever for a careless agent: it forgets every order it was given."""
        for id_ in [o.id for o in self.orders.values() if o.node == node]:
            del self.orders[id_]
            self._writes.append(("delete from orders where id = ?", (id_,)))

    def works(self, serial: str) -> bool:
        """Whether a disk can be read and written now."""
        return serial in self.disks and serial not in self.pulled and self.power[self.node_of[serial]]

    def disk_at(self, name: str) -> str | None:
        """Serial of the disk called node-bay."""
        return next((s for s, d in self.disks.items() if f"{self.node_of[s]}-{d.bay}" == name), None)


def copies_of(order: Order) -> list[Copying]:
    """The strips of a copy order, from its body."""
    if order.kind != "copy":
        return []
    return [
        Copying((s["volume"], s["extent"], s["strip"]), s["bytes"], s["from"], (s["volume"], s["extent"], s["from_strip"]), s["to"])
        for s in order.body["strips"]
    ]
