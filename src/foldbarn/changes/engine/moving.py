"""Moving strips: comparing disks with what they should hold, and carrying moves out. Rebuilding, levelling
and draining all do it here.
"""

from __future__ import annotations

import json
import time
import zlib
from collections import defaultdict
from collections.abc import Callable, Container, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np

from foldbarn.changes.engine.runner import Asked, Run
from foldbarn.core.arrays import Disks, Ints
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.moving.comparing import Places, Strips, differences, held_by, lay_there, placed
from foldbarn.core.moving.moves import Busy, Moves, crowds, lies_apart, say_hindrances, startable
from foldbarn.core.moving.readings import Readings, readings
from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.policies.limits import caches_told, withheld_told
from foldbarn.core.pools.only_on import strays
from foldbarn.core.site import Contact, Disk, Pool, SiteView
from foldbarn.core.units import say_count
from foldbarn.settings import settings
from foldbarn.store import changes as kept
from foldbarn.store import giving
from foldbarn.store import moves as store_moves
from foldbarn.store import nodes as store_nodes
from foldbarn.store import pools as store_pools
from foldbarn.store.database import announce, transaction
from foldbarn.store.placements import set_strips
from foldbarn.store.tables import MoveRow
from foldbarn.store.views import current_view, load_view

CALMER, CALM = 1.5, 2.5  # by how much a pause between two looks grows, and up to how many times
BATCH = 256  # strips in one copy order
UNDER_WAY = 4  # copy orders that a node may have at once
NODES_AT_ONCE = 16  # that are asked what they hold
RATE_SECONDS = 4.0  # the rate shown is over this long


def compare(run: Run, pool: int, only_drop: bool = False) -> tuple[int, int]:
    """Strips dropped and strips found missing over the reachable disks of a pool (by number). A node of which
    not every disk could be asked is left for later: it is compared when it is next heard.

    The caller holds the pool's strips (`Run.holding_strips`), so that nobody else moves them meanwhile.
    """
    before = current_view()
    with transaction() as session:
        to_be_held = giving.being_set_aside(session)  # by nodes that may not have been told yet
    held = _ask_what_is_held(run, before, before.pool_numbered(pool))
    _owe_the_others(run, before, before.pool_numbered(pool), held)
    # Read after the answers: what a disk held then was placed before, so that nothing new is taken for left
    # over. What was placed and set aside before the questions was there when they were answered, so that
    # nothing new is taken for missing either: room that is given to a thin volume meanwhile, say.
    view = current_view()
    found = differences(
        held_by(held), placed(view, view.pool_numbered(pool)), np.array(list(held), dtype=np.int64)
    )
    own = [p.number for p in view.every_ply_of(view.pool_numbered(pool))]
    known = list(view.ply_numbered)
    beyond = found.beyond.only(np.isin(found.beyond.ply, own) | ~np.isin(found.beyond.ply, known))
    missing = found.missing.only(lay_there(before, found.missing))
    _drop(run, view, beyond)
    return len(beyond.disk), 0 if only_drop else _mark_missing(run, missing, to_be_held)


def _ask_what_is_held(run: Run, view: SiteView, pool: Pool) -> dict[int, Strips]:
    """What each reachable disk of a pool (by number) holds by its agent's word."""
    found: dict[int, Strips] = {}
    by_node: dict[int, list[Disk]] = defaultdict(list)
    for disk in view.disks:
        if disk.pool == view.pool_row(pool) and view.disk_ready[view.row_of_number[disk.number]]:
            by_node[view.nodes[disk.node].number].append(disk)
    names = run.urls()

    def of_node(node: int) -> dict[int, Strips]:
        agent = run.agents(names[node][1])
        try:
            return {d.number: agent.strips(d.serial) for d in by_node[node]}
        except (Unreachable, NotPossible):
            return {}  # it fell silent, or a disk left between our view and our question

    with ThreadPoolExecutor(max_workers=NODES_AT_ONCE) as crew:
        for part in crew.map(of_node, by_node):
            found |= part
    return found


def _owe_the_others(run: Run, view: SiteView, pool: Pool, asked: Container[int]) -> None:
    """Notes the nodes of disks that are there and were not asked. One that is out tells when it is back."""
    owed = {
        view.nodes[disk.node].number
        for disk in view.disks
        if disk.pool == view.pool_row(pool) and disk.present and disk.number not in asked
    }
    if owed:
        with run.writing() as session:
            store_nodes.owe(session, owed)


def _terms_told(view: SiteView, plies: set[int]) -> dict[str, Any]:
    """What an order that brings strips of these plies says of their cache, and of what consumers may use."""
    caches = {str(ply): cache.value for ply, cache in sorted(caches_told(view, plies).items())}
    return {"cache": caches, "withheld": withheld_told(view, plies)}


def _drop(run: Run, view: SiteView, beyond: Places) -> None:
    """Has the agents drop strips."""
    orders: dict[int, dict[str, list[list[int]]]] = defaultdict(lambda: defaultdict(list))
    for ply, extent, strip, number in beyond.rows():
        disk = view.disks[int(view.row_of_number[number])]
        orders[disk.node][disk.serial].append([ply, extent, strip])
    for row, by_serial in orders.items():
        _tell_drop(run, view, row, by_serial, "drop")


def _tell_drop(run: Run, view: SiteView, row: int, by_serial: dict[str, list[list[int]]], part: str) -> None:
    """The same strips are the same order, other ones a new one."""
    node = view.nodes[row]
    digest = zlib.crc32(json.dumps(by_serial, sort_keys=True).encode())
    order = {
        "id": run.order_id(f"node{node.number}", f"{part}-{digest:x}"),
        "kind": "drop",
        "strips": by_serial,
    }
    run.insist(node.name, partial(run.agent(node.number).send, order))


def _mark_missing(run: Run, missing: Places, to_be_held: Container[tuple[int, int]]) -> int:
    """Points strips that their disk does not hold at nowhere, so that they are written again. to_be_held:
    extents, each with its ply, of which that cannot be said.
    """
    if not len(missing.disk):
        return 0
    with run.writing() as session:
        on_their_way = store_moves.under_way(session)
        wanted = [
            (v, e, s, disk, 0)
            for v, e, s, disk in missing.rows()
            if (v, e, s) not in on_their_way and (v, e) not in to_be_held
        ]
        marked = set_strips(session, wanted)
        announce(session, "site")
    return len(marked)


def stop_moving(run: Run) -> None:
    """Stops the copies of a change; what has arrived stays, and what has not is forgotten."""
    view = current_view()
    heard = {n.number for n in view.nodes if n.contact == Contact.HEARD}
    with transaction() as session:
        orders = store_moves.orders_of(session, run.change)
    for order, node, _ in orders:
        try:
            if node not in heard:
                continue  # its strips are compared when it returns
            agent = run.agent(node)
            agent.cancel(order)
            progress = agent.order(order)
        except (Unreachable, NotPossible):
            continue
        if progress is not None:
            _arrive(run, view, order, progress.finished)
    with run.writing() as session:
        store_moves.call_off(session, run.change)
        announce(session, "site")


def apart_now(view: SiteView) -> Callable[[int, int, list[int]], bool]:
    """Whether a strip of a ply may lie on a disk beside others on these, all by number. What lies on a disk
    that is lost is in nobody's way.
    """
    lost = np.append(view.disk_given_up & ~view.disk_ready, True)

    def apart(ply: int, disk: int, others: list[int]) -> bool:
        there = [other for other in others if not lost[view.row_of_number[other]]]
        gone = bool(lost[view.row_of_number[disk]])
        return gone or lies_apart(view, view.ply_numbered[ply], disk, there)

    return apart


def _arrive(run: Run, view: SiteView, order: str, finished: tuple[int, ...]) -> None:
    """Points the placement at strips of an order that are whole in their new place, where that keeps their
    extents apart.

    What stood elsewhere when the move was planned may have come back: such a copy is left over, and planned
    anew.
    """
    sizes = {n: view.pools[p.pool].strip_bytes for n, p in view.ply_numbered.items()}
    with run.writing() as session:
        moves = store_moves.of_order(session, run.change, order)
        arrived = [moves[i] for i in finished if i < len(moves) and moves[i].state == "ordered"]
        if not arrived:
            return
        wanted = [(m.ply_id, m.extent, m.strip, m.leaves, m.to_disk) for m in arrived if m.ply_id in sizes]
        done = {one[:3] for one in set_strips(session, wanted, apart_now(view))}
        whole = [m for m in arrived if (m.ply_id, m.extent, m.strip) in done]
        store_moves.set_state(session, [m.id for m in whole], "copied")
        store_moves.set_state(session, [m.id for m in arrived if m not in whole], "withdrawn")
        kept.add_moved(session, run.change, sum(sizes[m.ply_id] for m in whole))
        announce(session, "site")


def _strips_to_make(
    view: SiteView, pool: Pool, moves: list[MoveRow], found: Readings, kept: Ints
) -> list[dict[str, Any]]:
    """Strips of a copy order in the agents' words. kept: [moves] their rows in what was found to read."""
    serials = {d.number: d.serial for d in view.disks}
    place = {row: i for i, row in enumerate(kept.tolist())}
    data = {number: ply.scheme.k for number, ply in view.ply_numbered.items()}
    # What is read of another volume is read as it was at the snapshot that it is copied from.
    marks = {v.whole.number: v.origin.snapshot for v in view.volumes if v.origin is not None}
    strips = []
    for row, move in zip(kept.tolist(), moves, strict=True):
        reads = zip(
            *(a[row].tolist() for a in (found.disks, found.plies, found.extents, found.strips)), strict=True
        )
        strip: dict[str, Any] = {
            "ply": move.ply_id,
            "extent": move.extent,
            "strip": move.strip,
            "bytes": pool.strip_bytes,
            "reads": [
                {"disk": serials[disk], "strip": which}
                | ({} if source == move.ply_id else {"ply": source, "extent": extent})
                | ({"at": marks[move.ply_id]} if move.ply_id in marks and source != move.ply_id else {})
                for disk, source, extent, which in reads
                if disk
            ],
            "to": serials[move.to_disk],
        }
        if any("ply" in read for read in strip["reads"]) and move.ply_id in data:
            strip["data"] = data[move.ply_id]
        leader = int(found.along[row])
        strips.append(strip if leader == row else strip | {"along": place[leader]})
    return strips


def _say_stuck(view: SiteView, moves: Moves) -> str:
    """Why strips could not be given a place, or not be evened out; empty where nothing is left."""
    if moves.left_over:
        left = say_count(moves.left_over, "strip")
        return f"{left} above their disks' shares stay: no chain of exchanges keeps their extents apart."
    return say_hindrances(view, moves.hindrances)


@dataclass(slots=True)
class Mover:
    """Carries moves of one pool out: plans what is needed, orders copies, points the placement at what has
    arrived, and plans again.

    What is lost is always written again first, whatever else is being moved. When it stops, for whatever
    reason, nothing of it is under way any more, so that others may plan with the same strips; it plans anew
    when it goes on.

    part: names the moves of this step; pool: its number. more: plans what else is to be moved, once nothing
    is open; None for nothing. once: that is planned a single time. rate: which of the pool's rates holds.
    prefer: numbers of disks that get strips first. ahead: strips that `more` has not planned yet.
    """

    run: Run
    part: str
    pool: int
    more: Callable[[SiteView, Pool, Busy], Moves] | None = None
    once: bool = False
    rate: str = "level_rate"
    prefer: Disks | None = None
    ahead: Callable[[SiteView], int] | None = None
    history: list[tuple[float, int]] = field(default_factory=list)  # (seconds, bytes so far)
    unfinished: dict[str, int] = field(default_factory=dict)  # bytes of unfinished strips, by order
    strip_bytes: int = 0
    # by node: rate and who goes first, as it was last told
    told: dict[int, tuple[int, str]] = field(default_factory=dict)
    clock: tuple[int, float] = (0, 0.0)  # node, and its own time when last asked
    said: dict[int, str] = field(default_factory=dict)  # by node, why an order of it failed last

    def carry(self) -> tuple[int, str]:
        """Until nothing is left to do. Returns strips copied by this change in this step, and why some are
        stuck.
        """
        with self.run.holding_strips(current_view().pool_numbered(self.pool)):
            try:
                return self._carry()
            except (Asked, BarnError) as stop:
                if not isinstance(stop, kept.Fenced) and not self.run.ending:
                    stop_moving(self.run)
                raise

    def _carry(self) -> tuple[int, str]:
        planned = self.once and self._planned_before()
        pause, before = settings().look_seconds, (-1, -1)
        while True:
            self.run.check_asked()
            view = current_view()
            pool = view.pool_numbered(self.pool)
            self.strip_bytes = pool.strip_bytes
            self._collect(view)
            view = current_view()  # what has just arrived is no longer lost
            self._call_off_needless(view)
            with transaction() as session:
                busy = store_moves.under_way(session)
            moves = plan_rebuild(view, pool, self.run.change, busy, self.prefer)
            stuck = say_hindrances(view, moves.hindrances)
            if self.more is not None and not planned and not len(moves) and self._may_go_on(view, pool):
                moves = self.more(view, pool, busy)
                planned = self.once
                stuck = _say_stuck(view, moves) or stuck
            placed = self._begin(view, pool, moves)
            self._throttle(view, pool)
            self._order(view, pool)
            left, copied = self._counts()
            self._tell_progress(view, pool, left, copied)
            if not left and not placed:
                return copied, stuck
            # Where nothing has come of it for a while, there is no hurry.
            calm = (left, copied) == before and not placed
            longest = CALM * settings().look_seconds
            pause, before = min(CALMER * pause, longest) if calm else settings().look_seconds, (left, copied)
            time.sleep(pause)

    def _planned_before(self) -> bool:
        """Whether this step has made its plan already, and has not been called off since."""
        with transaction() as session:
            return store_moves.planned_any(session, self.run.change, self.part)

    def _may_go_on(self, view: SiteView, pool: Pool) -> bool:
        """Whether what is not lost may be moved: nothing is under way, and for a plan made once everything is
        there.
        """
        return not self._counts()[0] and (not self.once or self._all_ready(view, pool))

    def _begin(self, view: SiteView, pool: Pool, moves: Moves) -> bool:
        """Records the moves that can begin now. The others wait for room that these make, and are planned
        again then. Returns whether any strips have their new places already.
        """
        unwritten = np.isin(moves.ply, [p.number for p in view.plies if p.forming])
        placed = bool(unwritten.any()) and self._place_unwritten(view, pool, moves.only(unwritten))
        moves = moves.only(~unwritten)
        if not len(moves):
            return placed
        # Where strips go to a disk that others have just left, the agent has to let go of those before.
        self._let_go(view, set(moves.only(startable(view, moves)).to.tolist()))
        with self.run.writing() as session:
            # Looked at again while no volume is placed in the pool: the room may be taken by now.
            store_pools.locked(session, pool.number)
            now = moves.only(startable(load_view(session), moves))
            store_moves.plan(session, self.run.change, self.part, now)
            announce(session, "site", "changes")
        return placed

    def _place_unwritten(self, view: SiteView, pool: Pool, unwritten: Moves) -> bool:
        """Strips of volumes that are still being made hold nothing, and perhaps nobody has them yet: they are
        set aside in their new places at once. Returns whether any has one now.
        """
        unwritten = unwritten.only(startable(view, unwritten))
        columns = (unwritten.ply, unwritten.extent, unwritten.strip, unwritten.leaves, unwritten.to)
        places = list(zip(*(column.tolist() for column in columns), strict=True))
        for ply in sorted({place[0] for place in places}):
            self._reserve(view, pool, ply, [place for place in places if place[0] == ply])
        with self.run.writing() as session:
            store_pools.locked(session, pool.number)
            now = load_view(session)
            fits = startable(now, unwritten).tolist()
            wanted = [place for place, one_fits in zip(places, fits, strict=True) if one_fits]
            placed = set_strips(session, wanted, apart_now(now))
            announce(session, "site")
        return bool(placed)

    def _reserve(
        self, view: SiteView, pool: Pool, ply: int, places: list[tuple[int, int, int, int, int]]
    ) -> None:
        """Has the agents set strips of a ply aside: ply, extent, strip, the disk it leaves, the disk it
        goes to.
        """
        by_node: dict[int, dict[str, list[list[int]]]] = defaultdict(lambda: defaultdict(list))
        for _, extent, strip, _, to in places:
            disk = view.disk_numbered(to)
            by_node[view.nodes[disk.node].number][disk.serial].append([extent, strip])
        order = {
            "kind": "reserve",
            "ply": ply,
            "bytes": pool.strip_bytes,
            **_terms_told(view, {ply}),
        }
        digest = zlib.crc32(json.dumps(by_node, sort_keys=True).encode())
        orders = {node: {**order, "strips": strips} for node, strips in by_node.items()}
        self.run.tell_nodes(orders, part=f"reserve-{ply}-{digest:x}")

    def _let_go(self, view: SiteView, disks: set[int]) -> None:
        """Has these disks (by number) drop what this change has moved away from them."""
        with transaction() as session:
            left = store_moves.copied_away(session, self.run.change, disks)
        by_number = view.ply_numbered
        by_node: dict[int, list[MoveRow]] = defaultdict(list)
        for move in left:
            row = int(view.row_of_number[move.leaves])
            ply = by_number.get(move.ply_id)
            # Only what the placement has elsewhere by now may be dropped.
            gone = ply is None or int(ply.placement[move.extent, move.strip]) != move.leaves
            if gone and row < len(view.disks) and view.disk_ready[row]:
                by_node[int(view.disk_node[row])].append(move)
        serials = {d.number: d.serial for d in view.disks}
        for row, moves in by_node.items():
            strips: dict[str, list[list[int]]] = defaultdict(list)
            for move in moves:
                strips[serials[move.leaves]].append([move.ply_id, move.extent, move.strip])
            _tell_drop(self.run, view, row, strips, "left")
            with self.run.writing() as session:
                store_moves.set_state(session, [m.id for m in moves], "dropped")

    def _throttle(self, view: SiteView, pool: Pool) -> None:
        """Tells the nodes that receive strips how fast these may come in, whenever that has changed: the
        limit is shared evenly among them.
        """
        with transaction() as session:
            cap = kept.rate_cap(session, self.run.change)
        limits = [r for r in (getattr(pool, self.rate), cap or 0) if r]
        nodes = sorted({int(view.disk_node[r]) for r in view.in_pool(pool).tolist() if view.disk_open[r]})
        wish = (min(limits) // max(1, len(nodes)) if limits else 0, pool.priority.value)
        for row in nodes:
            node = view.nodes[row]
            if self.told.get(node.number) == wish:
                # at the first look it is told in any case: a limit of before a pause may still hold there
                continue
            order = {
                "id": self.run.order_id(f"node{node.number}", f"throttle-{time.time_ns()}"),
                "kind": "throttle",
                "name": self._name,
            }
            try:
                self.run.agent(node.number).send({**order, "bytes_per_second": wish[0], "first": wish[1]})
                self.told[node.number] = wish
            except BarnError as error:
                self.run.say(f"{node.name} was not told its limit: {error.sentence}")

    @property
    def _name(self) -> str:
        return f"change-{self.run.change}"

    # One look. -----------------------------------------------------------------------------------

    def _all_ready(self, view: SiteView, pool: Pool) -> bool:
        rows = view.in_pool(pool)
        return bool((view.disk_ready[rows] | view.disk_given_up[rows]).all())

    def _order(self, view: SiteView, pool: Pool) -> None:
        """Hands waiting moves to the agents of the disks they go to, a few orders a node at a time."""
        with transaction() as session:
            waiting = store_moves.of_change(session, self.run.change, "waiting")
            busy = [node for _, node, _ in store_moves.orders_of(session, self.run.change)]
        lost = {d.number for row, d in enumerate(view.disks) if not view.disk_ready[row]} | {0}
        # What cannot be written now waits; it must not be where others of its stripe are made, either.
        waiting = [m for m in waiting if view.disk_ready[view.row_of_number[m.to_disk]]]
        waiting.sort(key=lambda m: m.leaves not in lost)  # what is lost goes first
        parity = {p.number for p in view.plies_of(pool) if not p.scheme.is_mirror}
        anew = {p.number for p in view.plies_anew}
        makers: dict[tuple[int, int], int] = {}
        by_node: dict[int, list[MoveRow]] = defaultdict(list)
        for move in waiting:
            row = int(view.disk_node[view.row_of_number[move.to_disk]])
            if move.ply_id in anew or (move.ply_id in parity and move.leaves in lost):
                # All strips that a stripe misses are made in one place, of which one reading is enough.
                row = makers.setdefault((move.ply_id, move.extent), row)
            by_node[row].append(move)
        for row, moves in by_node.items():
            free = max(0, UNDER_WAY - busy.count(view.nodes[row].number))
            for start in range(0, len(moves), BATCH)[:free]:
                self._send(view, pool, row, moves[start : start + BATCH])

    def _send(self, view: SiteView, pool: Pool, row: int, batch: list[MoveRow]) -> None:
        """One copy order. Recorded before it is sent, so that a resumed change asks for it by the same id."""
        # The order's own sequence is that of its moves' numbers: by it is read what has been finished.
        batch = sorted(batch, key=lambda m: m.id)
        ply, extent, strip = (
            np.array([getattr(m, a) for m in batch], dtype=np.int64) for a in ("ply_id", "extent", "strip")
        )
        leaves, to = (np.array([getattr(m, a) for m in batch], dtype=np.int32) for a in ("leaves", "to_disk"))
        found = readings(view, Moves(ply, extent, strip, leaves, to, np.zeros(len(batch), dtype=np.bool_)))
        # Those that cannot be read now are planned anew when they can.
        self._withdraw([batch[i].id for i in np.flatnonzero(~found.possible).tolist()])
        # What goes to another node comes along with a strip that is made here, or waits for its own turn.
        here = view.disk_node[view.row_of_number[to]] == row
        kept = np.flatnonzero(found.possible & here[found.along])
        if not len(kept):
            return
        ready = [batch[i] for i in kept.tolist()]
        node = view.nodes[row]
        order = self.run.order_id(
            f"node{node.number}", f"{self.part}-{ready[0].id}-{len(ready)}-{view.revision}"
        )
        with self.run.writing() as session:
            store_moves.give_to(session, [m.id for m in ready], order, node.number)
        copy = {
            "id": order,
            "kind": "copy",
            "throttle": self._name,
            **_terms_told(view, {m.ply_id for m in ready}),
            "strips": _strips_to_make(view, pool, ready, found, kept),
        }
        try:
            self.run.agent(node.number).send(copy)
        except Unreachable:
            return  # the next look finds the order unknown and gives it again
        except NotPossible as error:
            self._give_back(order)
            self.run.say(error.sentence)

    def _give_back(self, order: str) -> None:
        """Moves of an order that will not be done wait again."""
        with self.run.writing() as session:
            store_moves.give_back(session, self.run.change, order)

    def _collect(self, view: SiteView) -> None:
        """Asks how far the orders are, and points the placement at every strip that is whole in its new
        place.
        """
        with transaction() as session:
            orders = store_moves.orders_of(session, self.run.change)
        open_orders = {order for order, _, _ in orders}
        self.unfinished = {order: b for order, b in self.unfinished.items() if order in open_orders}
        heard = {n.number for n in view.nodes if n.contact == Contact.HEARD}
        for order, node, name in orders:
            if node not in heard:
                continue
            try:
                progress = self.run.agent(node).order(order)
            except (Unreachable, NotPossible):
                continue
            if progress is None:
                self._give_back(order)
                continue
            self.unfinished[order] = progress.bytes_done - len(progress.finished) * self.strip_bytes
            _arrive(self.run, view, order, progress.finished)
            if progress.state in ("failed", "cancelled"):
                self._give_back(order)
            if progress.state == "failed":
                # A source does not hold what we think it does: find out what else is amiss.
                if progress.problem != self.said.get(node):
                    self.run.say(f"{name}: {progress.problem}.")
                    self.said[node] = progress.problem
                compare(self.run, self.pool)

    def _call_off_needless(self, view: SiteView) -> None:
        """Moves to disks that are away, or that a node makes which is away, are planned anew; waiting moves
        away from a disk that came back are not needed, unless another strip of the extent has taken their
        domain meanwhile, or is on its way there.
        """
        ready = {d.number for row, d in enumerate(view.disks) if view.disk_ready[row]}
        gone = {
            d.number
            for row, d in enumerate(view.disks)
            if view.disk_given_up[row] and not view.disk_ready[row]
        }
        without = {n.number for n in view.nodes if n.given_up and n.contact != Contact.HEARD}
        with transaction() as session:
            mine = store_moves.of_change(session, self.run.change, "waiting", "ordered")

        def needless(move: MoveRow) -> bool:
            # A strip that is made along with others goes from the node that makes them to another's disk.
            if move.to_disk in gone or move.maker_id in without:
                return True
            back = move.part == "copy" and move.state == "waiting" and move.leaves in ready
            if not back or move.makes_room or strays(view, move.ply_id, move.leaves):
                return False
            return not crowds(view, move.ply_id, move.extent, move.strip)

        self._withdraw([m.id for m in mine if needless(m)])

    def _withdraw(self, moves: Iterable[int]) -> None:
        if numbers := list(moves):
            with self.run.writing() as session:
                store_moves.set_state(session, numbers, "withdrawn")
                announce(session, "site")

    def _counts(self) -> tuple[int, int]:
        """Moves still open, and moves copied, of this step."""
        with transaction() as session:
            return store_moves.counts(session, self.run.change, self.part)

    def _tell_progress(self, view: SiteView, pool: Pool, left: int, copied: int) -> None:
        now = time.monotonic()
        done = copied * pool.strip_bytes + sum(self.unfinished.values())
        self.history = [h for h in self.history if h[0] > now - RATE_SECONDS] + [(now, done)]
        first = self.history[0]
        rate = (done - first[1]) / (now - first[0]) if now - first[0] > 0.5 else None
        self._note_time()
        if copied + left:
            in_all = copied + max(left, self.ahead(view) if self.ahead else 0)
            self.run.progress(done, in_all * pool.strip_bytes, rate)

    def _note_time(self) -> None:
        """Adds to the change what has passed by a node's own clock since the last look, so that it can be
        compared with the estimate.
        """
        view = current_view()
        heard = [n for n in view.nodes if n.contact == Contact.HEARD]
        node = next((n for n in heard if n.number == self.clock[0]), heard[0] if heard else None)
        if node is None:
            return
        try:
            now = self.run.agent(node.number).uptime()
        except BarnError:
            return
        if self.clock[0] == node.number and now > self.clock[1]:
            with self.run.writing() as session:
                kept.add_work(session, self.run.change, now - self.clock[1])
        self.clock = (node.number, now)
