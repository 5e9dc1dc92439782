"""Moving strips: comparing disks with what they should hold, and carrying moves out. Rebuilding, levelling and draining all do it here."""

from __future__ import annotations

import json
import time
import zlib
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import numpy as np
from sqlalchemy import func, insert, select, text, update
from sqlalchemy.orm import Session

from foldbarn.changes.runner import Run
from foldbarn.core.arrays import Disks
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.moves import Busy, Moves, say_hindrances, sources, startable
from foldbarn.core.rebuild import plan_rebuild
from foldbarn.core.site import Disk, Pool, SiteView
from foldbarn.core.units import say_count
from foldbarn.settings import settings
from foldbarn.store.database import announce, engine, transaction
from foldbarn.store.placements import set_strips
from foldbarn.store.tables import ChangeRow, DiskRow, MoveRow, NodeRow
from foldbarn.store.views import current_view

BATCH = 256  # strips in one copy order
UNDER_WAY = 4  # copy orders that a node may have at once
RATE_SECONDS = 4.0  # the rate shown is over this long
MOVER_LOCK = 0xBA52  # advisory lock space: one mover per pool


@contextmanager
def strips_of(run: Run[Any], pool: Pool, withdrawing: bool = False) -> Iterator[None]:
    """Holds a pool's strips: only one change at a time moves them. Waits for its turn.

    Raises Asked while waiting where a person wants to stop, or, for one that is being withdrawn, where its process ends.
    """
    with engine().connect() as holder:
        said = False
        while not holder.scalar(
            text("select pg_try_advisory_lock(:space, :pool)"), {"space": MOVER_LOCK, "pool": pool.number}
        ):
            holder.commit()
            if not said:
                run.say(f"Waits until another change has moved the strips of {pool.name}.")
                said = True
            if withdrawing:
                run.check_ending()
            else:
                run.check_asked()
            time.sleep(settings().look_seconds)
        holder.commit()
        try:
            yield
        finally:
            if not holder.invalidated:
                holder.execute(
                    text("select pg_advisory_unlock(:space, :pool)"),
                    {"space": MOVER_LOCK, "pool": pool.number},
                )
                holder.commit()


def compare(run: Run[Any], pool: str, only_drop: bool = False) -> tuple[int, int]:
    """Strips dropped and strips found missing over the pool's reachable disks. A node that falls silent is left for later.

    The caller holds the pool's strips (`strips_of`), so that nobody else moves them meanwhile.
    """
    before = current_view()
    held = _ask_what_is_held(run, before, before.pool(pool))
    # Read after the answers: what a disk held then was placed before, so that nothing new is taken for left over. What
    # was whole before the questions has been written before them, so that nothing new is taken for missing either.
    view = current_view()
    whole = {v.number for v in before.volumes if not v.forming}
    should = _should_hold(view, view.pool(pool), run)
    own = {v.number for v in view.volumes_of(view.pool(pool))}
    known = {v.number for v in view.volumes}
    extra: dict[int, dict[str, list[list[int]]]] = defaultdict(dict)
    missing: dict[int, set[Strip]] = {}
    for disk, strips in held.items():
        beyond = [list(s) for s in sorted(strips - should[disk]) if s[0] in own or s[0] not in known]
        row = view.row_of_number[disk]
        if beyond:
            extra[int(view.disk_node[row])][view.disks[row].serial] = beyond
        missing[disk] = {s for s in should[disk] - strips if s[0] in whole}
    dropped = 0
    for row, by_serial in extra.items():
        node = view.nodes[row]
        digest = zlib.crc32(json.dumps(by_serial, sort_keys=True).encode())
        order = {"id": run.order_id(node.name, f"drop-{digest:x}"), "kind": "drop", "strips": by_serial}
        run.insist(node.name, partial(run.agent(node.number).send, order))
        dropped += sum(map(len, by_serial.values()))
    return dropped, 0 if only_drop else _mark_missing(missing)


def owe(session: Session, nodes: Iterable[int]) -> None:
    """Notes that these nodes (by number) could not be told to drop something; they are compared when they are heard again."""
    session.execute(update(NodeRow).where(NodeRow.id.in_(list(nodes))).values(owes=True))


Strip = tuple[int, int, int]  # volume, extent, strip


def _ask_what_is_held(run: Run[Any], view: SiteView, pool: Pool) -> dict[int, set[Strip]]:
    """What each reachable disk of a pool (by number) holds by its agent's word."""
    found: dict[int, set[Strip]] = {}
    by_node: dict[int, list[Disk]] = defaultdict(list)
    for disk in view.disks:
        if disk.pool == view.pool_row(pool) and view.disk_ready[view.row_of_number[disk.number]]:
            by_node[view.nodes[disk.node].number].append(disk)
    for node, disks in by_node.items():
        agent = run.agent(node)
        try:
            found |= {d.number: agent.strips(d.serial) for d in disks}
        except (Unreachable, NotPossible):
            continue  # it fell silent, or a disk left between our view and our question: the watch will say so
    return found


def _should_hold(view: SiteView, pool: Pool, run: Run[Any]) -> dict[int, set[tuple[int, int, int]]]:
    """By disk number, the strips that belong on it: the placement's, and those on their way."""
    should: dict[int, set[tuple[int, int, int]]] = defaultdict(set)
    for volume in view.volumes_of(pool):
        for disk in np.unique(volume.placement).tolist():
            should[disk] |= {(volume.number, e, s) for e, s in np.argwhere(volume.placement == disk).tolist()}
    with transaction() as session:
        for move in session.scalars(select(MoveRow).where(MoveRow.state.in_(("waiting", "ordered")))):
            should[move.to_disk].add((move.volume_id, move.extent, move.strip))
    return should


def _mark_missing(missing: dict[int, set[Strip]]) -> int:
    """Points strips that their disk (by number) does not hold at nowhere, so that they are written again."""
    wanted = [(*strip, disk, 0) for disk, strips in missing.items() for strip in sorted(strips)]
    if not wanted:
        return 0
    with transaction() as session:
        on_their_way = {
            (m.volume_id, m.extent, m.strip)
            for m in session.scalars(select(MoveRow).where(MoveRow.state.in_(("waiting", "ordered"))))
        }
        marked = set_strips(session, [w for w in wanted if w[:3] not in on_their_way])
        announce(session, "site")
    return len(marked)


def _say_stuck(view: SiteView, moves: Moves) -> str:
    """Why strips could not be given a place, or not be evened out; empty where nothing is left."""
    if moves.left_over:
        left = say_count(moves.left_over, "strip")
        return f"{left} above their disks' shares stay: no chain of exchanges keeps their extents apart."
    return say_hindrances(view, moves.hindrances)


def _crowds(view: SiteView, move: MoveRow) -> bool:
    """Whether a strip that stayed where it is would share its domain with another of its extent, there or on its way."""
    volume = next((v for v in view.volumes if v.number == move.volume_id), None)
    if volume is None:
        return False
    domain_of = np.append(view.domain_of(volume.protection.level), -1)
    mine = int(domain_of[view.row_of_number[move.leaves]])
    others = [int(d) for s, d in enumerate(volume.placement[move.extent].tolist()) if s != move.strip and d]
    others += [
        to
        for (v, e, s), to in view.under_way.items()
        if (v, e) == (volume.number, move.extent) and s != move.strip
    ]
    return mine in {int(domain_of[view.row_of_number[d]]) for d in others}


@dataclass(slots=True)
class Mover:
    """Carries moves of one pool out: plans what is needed, orders copies, points the placement at what has arrived, and plans again.

    What is lost is always written again first, whatever else is being moved.

    part: names the moves of this step; pool: its name. more: plans what else is to be moved, once nothing is open; None
    for nothing. once: that is planned a single time, also over resumptions. rate: which of the pool's rates holds.
    prefer: numbers of disks that get strips first.
    """

    run: Run[Any]
    part: str
    pool: str
    more: Callable[[SiteView, Pool, Busy], Moves] | None = None
    once: bool = False
    rate: str = "level_rate"
    prefer: Disks | None = None
    history: list[tuple[float, int]] = field(default_factory=list)  # (seconds, bytes so far)
    unfinished: dict[str, int] = field(default_factory=dict)  # bytes of unfinished strips, by order
    extent_bytes: int = 0
    told: dict[int, tuple[int, str]] = field(
        default_factory=dict
    )  # by node: rate and who goes first, as it was last told
    clock: tuple[int, float] = (0, 0.0)  # node, and its own time when last asked

    def carry(self) -> tuple[int, str]:
        """Until nothing is left to do. Returns strips copied by this change in this step, and why some are stuck."""
        with strips_of(self.run, current_view().pool(self.pool)):
            return self._carry()

    def _carry(self) -> tuple[int, str]:
        planned = self.once and self._has_moves()
        while True:
            self.run.check_asked()
            view = current_view()
            pool = view.pool(self.pool)
            self.extent_bytes = pool.extent_bytes
            self._collect(view)
            view = current_view()  # what has just arrived is no longer lost
            self._call_off_needless(view)
            busy = self._open_keys()
            moves = plan_rebuild(view, pool, self.run.change, busy, self.prefer)
            stuck = say_hindrances(view, moves.hindrances)
            if self.more is not None and not planned and not len(moves) and self._may_go_on(view, pool):
                moves = self.more(view, pool, busy)
                planned = self.once
                stuck = _say_stuck(view, moves) or stuck
            self._begin(view, moves)
            self._throttle(view, pool)
            self._order(view, pool)
            left, copied = self._counts()
            self._tell_progress(pool, left, copied)
            if not left:
                return copied, stuck
            time.sleep(settings().look_seconds)

    def _may_go_on(self, view: SiteView, pool: Pool) -> bool:
        """Whether what is not lost may be moved: nothing is under way, and for a plan made once everything is there."""
        return not self._counts()[0] and (not self.once or self._all_ready(view, pool))

    def _begin(self, view: SiteView, moves: Moves) -> None:
        """Records the moves that can begin now. The others wait for room that these make, and are planned again then."""
        if not len(moves):
            return
        now = moves.only(startable(view, moves))
        # Where strips go to a disk that others have just left, the agent has to let go of those before.
        self._let_go(view, set(now.to.tolist()))
        self._plan(view, now)

    def _let_go(self, view: SiteView, disks: set[int]) -> None:
        """Has these disks (by number) drop what this change has moved away from them."""
        with transaction() as session:
            left = list(
                session.scalars(
                    select(MoveRow).where(self._mine(), MoveRow.state == "copied", MoveRow.leaves.in_(disks))
                )
            )
        by_number = {v.number: v for v in view.volumes}
        by_node: dict[int, list[MoveRow]] = defaultdict(list)
        for move in left:
            row = int(view.row_of_number[move.leaves])
            volume = by_number.get(move.volume_id)
            # Only what the placement has elsewhere by now may be dropped.
            gone = volume is None or int(volume.placement[move.extent, move.strip]) != move.leaves
            if gone and row < len(view.disks) and view.disk_ready[row]:
                by_node[int(view.disk_node[row])].append(move)
        serials = {d.number: d.serial for d in view.disks}
        for node_row, moves in by_node.items():
            node = view.nodes[node_row]
            strips: dict[str, list[list[int]]] = defaultdict(list)
            for move in moves:
                strips[serials[move.leaves]].append([move.volume_id, move.extent, move.strip])
            digest = zlib.crc32(json.dumps(strips, sort_keys=True).encode())
            order = {"id": self.run.order_id(node.name, f"left-{digest:x}"), "kind": "drop", "strips": strips}
            self.run.insist(node.name, partial(self.run.agent(node.number).send, order))
            with transaction() as session:
                done = update(MoveRow).where(MoveRow.id.in_([m.id for m in moves])).values(state="dropped")
                session.execute(done)

    def _throttle(self, view: SiteView, pool: Pool) -> None:
        """Tells the nodes that receive strips how fast these may come in, whenever that has changed: the limit is shared evenly among them."""
        with transaction() as session:
            cap = session.scalar(select(ChangeRow.rate_cap).where(ChangeRow.id == self.run.change))
        limits = [r for r in (getattr(pool, self.rate), cap or 0) if r]
        nodes = sorted({int(view.disk_node[r]) for r in view.in_pool(pool).tolist() if view.disk_open[r]})
        wish = (min(limits) // max(1, len(nodes)) if limits else 0, pool.priority.value)
        for row in nodes:
            node = view.nodes[row]
            if self.told.get(node.number) == wish:
                continue  # at the first look it is told in any case: a limit of before a pause may still hold there
            order = {
                "id": self.run.order_id(node.name, f"throttle-{time.time_ns()}"),
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

    def call_off(self) -> None:
        """Stops the copies; what has arrived stays."""
        view = current_view()
        self._collect(view)
        with transaction() as session:
            orders = {
                (m.order_id, d.node_id)
                for m, d in session.execute(
                    select(MoveRow, DiskRow)
                    .join(DiskRow, DiskRow.id == MoveRow.to_disk)
                    .where(self._mine(), MoveRow.state == "ordered")
                )
            }
        for order, node in sorted(orders):
            try:
                self.run.agent(node).cancel(str(order))
            except Unreachable:
                continue  # its strips are compared when it returns
        with transaction() as session:
            session.execute(
                update(MoveRow)
                .where(self._mine(), MoveRow.state.in_(("waiting", "ordered")))
                .values(state="withdrawn")
            )
            announce(session, "site")

    # One look. -----------------------------------------------------------------------------------

    def _mine(self) -> Any:
        return MoveRow.change_id == self.run.change

    def _has_moves(self) -> bool:
        """Whether this step has planned anything yet."""
        with transaction() as session:
            return bool(
                session.scalar(select(func.count(MoveRow.id)).where(self._mine(), MoveRow.part == self.part))
            )

    def _open_keys(self) -> dict[tuple[int, int, int], int]:
        with transaction() as session:
            rows = session.execute(
                select(MoveRow.volume_id, MoveRow.extent, MoveRow.strip, MoveRow.to_disk).where(
                    MoveRow.state.in_(("waiting", "ordered"))
                )
            )
            return {(v, e, s): to for v, e, s, to in rows}

    def _all_ready(self, view: SiteView, pool: Pool) -> bool:
        rows = view.in_pool(pool)
        return bool((view.disk_ready[rows] | view.disk_given_up[rows]).all())

    def _plan(self, view: SiteView, moves: Moves) -> None:
        if not len(moves):
            return
        columns = ("volume_id", "extent", "strip", "leaves", "to_disk", "makes_room")
        arrays = (moves.volume, moves.extent, moves.strip, moves.leaves, moves.to, moves.makes_room)
        values = zip(*(a.tolist() for a in arrays), strict=True)
        with transaction() as session:
            session.execute(
                insert(MoveRow),
                [
                    dict(zip(columns, row, strict=True)) | {"change_id": self.run.change, "part": self.part}
                    for row in values
                ],
            )
            announce(session, "site", "changes")

    def _order(self, view: SiteView, pool: Pool) -> None:
        """Hands waiting moves to the agents of the disks they go to, a few orders a node at a time."""
        with transaction() as session:
            waiting = list(
                session.scalars(
                    select(MoveRow).where(self._mine(), MoveRow.state == "waiting").order_by(MoveRow.id)
                )
            )
            busy = set(
                session.scalars(select(MoveRow.order_id).where(self._mine(), MoveRow.state == "ordered"))
            )
        lost = {d.number for row, d in enumerate(view.disks) if not view.disk_ready[row]} | {0}
        waiting.sort(key=lambda m: m.leaves not in lost)  # what is lost goes first
        by_node: dict[int, list[MoveRow]] = defaultdict(list)
        for move in waiting:
            by_node[int(view.disk_node[view.row_of_number[move.to_disk]])].append(move)
        for row, moves in by_node.items():
            node = view.nodes[row]
            open_orders = sum(1 for order in busy if order and f"-{node.name}-" in order)
            for start in range(0, len(moves), BATCH)[: max(0, UNDER_WAY - open_orders)]:
                self._send(view, pool, node.number, node.name, moves[start : start + BATCH])

    def _send(self, view: SiteView, pool: Pool, node: int, name: str, batch: list[MoveRow]) -> None:
        """One copy order. Recorded before it is sent, so that a resumed change asks for it by the same id."""
        volume, extent, strip, leaves, to = (
            np.array([getattr(m, a) for m in batch])
            for a in ("volume_id", "extent", "strip", "leaves", "to_disk")
        )
        plan = Moves(volume, extent, strip, leaves, to, np.zeros(len(batch), dtype=np.bool_))
        come, which = sources(view, plan)
        serials = {d.number: d.serial for d in view.disks}
        ready = [
            (m, serials[c], w)
            for m, c, w in zip(batch, come.tolist(), which.tolist(), strict=True)
            if c and view.disk_ready[view.row_of_number[m.to_disk]]
        ]
        self._withdraw(
            [m.id for m, c in zip(batch, come.tolist(), strict=True) if not c]
        )  # planned anew when they can be read
        if not ready:
            return
        order = self.run.order_id(name, f"{self.part}-{ready[0][0].id}-{len(ready)}-{view.revision}")
        strips = [
            {
                "volume": m.volume_id,
                "extent": m.extent,
                "strip": m.strip,
                "bytes": pool.extent_bytes,
                "from": c,
                "from_strip": w,
                "to": serials[m.to_disk],
            }
            for m, c, w in ready
        ]
        with transaction() as session:
            session.execute(
                update(MoveRow)
                .where(MoveRow.id.in_([m.id for m, _, _ in ready]))
                .values(state="ordered", order_id=order)
            )
        try:
            self.run.agent(node).send({"id": order, "kind": "copy", "throttle": self._name, "strips": strips})
        except Unreachable:
            return  # the next look finds the order unknown and gives it again
        except NotPossible as error:
            self._give_back(order)
            self.run.say(error.sentence)

    def _give_back(self, order: str) -> None:
        """Moves of an order that will not be done wait again."""
        with transaction() as session:
            session.execute(
                update(MoveRow)
                .where(self._mine(), MoveRow.order_id == order, MoveRow.state == "ordered")
                .values(state="waiting", order_id=None)
            )

    def _collect(self, view: SiteView) -> None:
        """Asks how far the orders are, and points the placement at every strip that is whole in its new place."""
        with transaction() as session:
            rows = session.execute(
                select(MoveRow.order_id, NodeRow.id, NodeRow.name)
                .join(DiskRow, DiskRow.id == MoveRow.to_disk)
                .join(NodeRow, NodeRow.id == DiskRow.node_id)
                .where(self._mine(), MoveRow.state == "ordered")
                .distinct()
            ).all()
        self.unfinished = {k: v for k, v in self.unfinished.items() if k in {r[0] for r in rows}}
        heard = {n.number for row, n in enumerate(view.nodes) if n.contact == "heard"}
        for order, node, name in rows:
            if node not in heard or order is None:
                continue
            try:
                progress = self.run.agent(node).order(order)
            except (Unreachable, NotPossible):
                continue
            if progress is None:
                self._give_back(order)
                continue
            self.unfinished[order] = progress.bytes_done - len(progress.finished) * self.extent_bytes
            self._arrive(order, progress.finished)
            if progress.state in ("failed", "cancelled"):
                self._give_back(order)
            if (
                progress.state == "failed"
            ):  # a source does not hold what we think it does: find out what else is amiss
                self.run.say(f"{name}: {progress.problem}.")
                compare(self.run, self.pool)

    def _arrive(self, order: str, finished: tuple[int, ...]) -> None:
        with transaction() as session:
            moves = list(
                session.scalars(
                    select(MoveRow).where(self._mine(), MoveRow.order_id == order).order_by(MoveRow.id)
                )
            )
            arrived = [moves[i] for i in finished if i < len(moves) and moves[i].state == "ordered"]
            if not arrived:
                return
            set_strips(session, [(m.volume_id, m.extent, m.strip, m.leaves, m.to_disk) for m in arrived])
            for move in arrived:
                move.state = "copied"
            moved = ChangeRow.moved + len(arrived) * self.extent_bytes
            session.execute(update(ChangeRow).where(ChangeRow.id == self.run.change).values(moved=moved))
            announce(session, "site")

    def _call_off_needless(self, view: SiteView) -> None:
        """Moves to disks that are away are planned anew; waiting moves away from a disk that came back are not needed,
        unless another strip of the extent has taken their domain meanwhile, or is on its way there."""
        ready = {d.number for row, d in enumerate(view.disks) if view.disk_ready[row]}
        gone = {
            d.number
            for row, d in enumerate(view.disks)
            if view.disk_given_up[row] and not view.disk_ready[row]
        }
        with transaction() as session:
            needless = [
                m.id
                for m in session.scalars(
                    select(MoveRow).where(self._mine(), MoveRow.state.in_(("waiting", "ordered")))
                )
                if m.to_disk in gone
                or (
                    m.part == "copy"
                    and m.state == "waiting"
                    and m.leaves in ready
                    and not m.makes_room
                    and not _crowds(view, m)
                )
            ]
        self._withdraw(needless)

    def _withdraw(self, moves: list[int]) -> None:
        if moves:
            with transaction() as session:
                session.execute(update(MoveRow).where(MoveRow.id.in_(moves)).values(state="withdrawn"))
                announce(session, "site")

    def _counts(self) -> tuple[int, int]:
        """Moves still open, and moves copied, of this step."""
        with transaction() as session:
            found = session.execute(
                select(MoveRow.state, func.count(MoveRow.id))
                .where(self._mine(), MoveRow.part == self.part)
                .group_by(MoveRow.state)
            )
            by_state = {state: count for state, count in found}
        return by_state.get("waiting", 0) + by_state.get("ordered", 0), by_state.get(
            "copied", 0
        ) + by_state.get("dropped", 0)

    def _tell_progress(self, pool: Pool, left: int, copied: int) -> None:
        now = time.monotonic()
        done = copied * pool.extent_bytes + sum(self.unfinished.values())
        self.history = [h for h in self.history if h[0] > now - RATE_SECONDS] + [(now, done)]
        first = self.history[0]
        rate = (done - first[1]) / (now - first[0]) if now - first[0] > 0.5 else None
        self._note_time()
        if copied + left:
            self.run.progress(done, (copied + left) * pool.extent_bytes, rate)

    def _note_time(self) -> None:
        """Adds to the change what has passed by a node's own clock since the last look, so that it can be compared with the estimate."""
        view = current_view()
        heard = [n for n in view.nodes if n.contact == "heard"]
        node = next((n for n in heard if n.number == self.clock[0]), heard[0] if heard else None)
        if node is None:
            return
        try:
            now = self.run.agent(node.number).uptime()
        except BarnError:
            return
        if self.clock[0] == node.number and now > self.clock[1]:
            seconds = ChangeRow.work_seconds + (now - self.clock[1])
            with transaction() as session:
                session.execute(
                    update(ChangeRow).where(ChangeRow.id == self.run.change).values(work_seconds=seconds)
                )
        self.clock = (node.number, now)
