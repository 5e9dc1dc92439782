"""Rebuild and level: what is lost is written again elsewhere, what has returned is put to use, and disks are evened out."""

from __future__ import annotations

import json
import time
import zlib
from collections import defaultdict
from dataclasses import dataclass, field
from functools import partial
from typing import Any, ClassVar

import numpy as np
from sqlalchemy import func, insert, select, update

from foldbarn.changes.kind import Kind, Params, register
from foldbarn.changes.preview import Note, PlannedStep, Preview, Row
from foldbarn.changes.runner import Run
from foldbarn.core.errors import NotPossible, Unreachable
from foldbarn.core.figures import Figure
from foldbarn.core.lamps import Outlook
from foldbarn.core.rebuild import LEVEL_TOLERANCE, Moves, estimate, imbalance, least_moves, lost_strips, plan_levelling, plan_rebuild, sources
from foldbarn.core.site import Pool, SiteView
from foldbarn.core.units import say_count, say_size
from foldbarn.store.database import announce, transaction
from foldbarn.store.placements import set_strips
from foldbarn.store.tables import DiskRow, MoveRow, NodeRow, PoolRow
from foldbarn.store.views import current_view

LOOK_SECONDS = 0.4  # between two looks at the copies under way
BATCH = 256  # strips in one copy order
UNDER_WAY = 4  # copy orders that a node may have at once
RATE_SECONDS = 4.0  # the rate shown is over this long


class RebuildParams(Params):
    """Which pool to mend and level."""

    pool: str


@register
class Rebuild(Kind[RebuildParams]):
    """compare (agents), copy, level, let_go (agents)."""

    name: ClassVar[str] = "rebuild"
    params: ClassVar[type[Params]] = RebuildParams

    def about(self, params: RebuildParams) -> str:
        return params.pool

    def touches(self, params: RebuildParams) -> str:
        return f"strips of {params.pool.casefold()}"

    def preview(self, view: SiteView, params: RebuildParams) -> Preview:
        pool = view.pool(params.pool)
        rebuild = plan_rebuild(view, pool, seed=1)
        moves = rebuild if len(rebuild) else plan_levelling(view, pool, seed=1)
        guess = estimate(view, moves, pool.extent_bytes)
        preview = Preview(
            kind=self.name,
            title=f"Rebuild and level {pool.name}",
            summary=_summary(rebuild, moves, pool),
            revision=view.revision,
            steps=[
                PlannedStep(name="compare", title="Compare each disk with what it should hold", detail="Strips that were moved on meanwhile are dropped."),
                PlannedStep(
                    name="copy",
                    title="Write lost strips again elsewhere",
                    detail="Each in a domain that keeps its extent's spread.",
                    seconds=guess.seconds if len(rebuild) else 0,
                ),
                PlannedStep(
                    name="level",
                    title="Level the disks",
                    detail="Fullest disks give to emptiest, as few strips as that takes.",
                    seconds=0 if len(rebuild) else guess.seconds,
                ),
                PlannedStep(name="let_go", title="Let go of the old strips", detail="Only after the new ones are whole."),
            ],
            moves_bytes=guess.bytes_moved,
            seconds=guess.seconds,
            bottleneck=guess.bottleneck,
            protection="No extent has fewer copies at any step than before it.",
        )
        _tell_moves(preview, view, pool, moves)
        if rebuild.stuck:
            preview.warnings.append(Note(sentence=rebuild.why, next_step=f"Bring the missing nodes back, or add disks in another {pool.usual.level}."))
        unreadable = sum(f.unavailable + f.lost for f, v in zip(Outlook(view, 0.0, 0.0).fates, view.volumes, strict=True) if view.pools[v.pool] is pool)
        if unreadable:
            preview.warnings.append(Note(sentence=f"{say_count(unreadable, 'extent')} cannot be read and so cannot be copied until something returns."))
        return preview.sealed()

    def step_compare(self, run: Run[RebuildParams]) -> str:
        """Asks every reachable disk what it holds; drops what belongs elsewhere by now, marks what is missing."""
        view = current_view()
        pool = view.pool(run.params.pool)
        dropped, missing = _compare(run, view, pool)
        with transaction() as session:
            session.execute(update(PoolRow).where(PoolRow.id == pool.number).values(look_reason=""))
        return f"{say_count(dropped, 'left-over strip')} dropped, {say_count(missing, 'strip')} found missing."

    def step_copy(self, run: Run[RebuildParams]) -> str:
        copied, stuck = _Mover(run, "copy").carry(level=False)
        ending = f" {stuck}" if stuck else ""
        return f"{say_count(copied, 'strip')} written again.{ending}"

    def step_level(self, run: Run[RebuildParams]) -> str:
        copied, stuck = _Mover(run, "level").carry(level=True)
        ending = f" {stuck}" if stuck else ""
        return f"{say_count(copied, 'strip')} moved.{ending}"

    def step_let_go(self, run: Run[RebuildParams]) -> str:
        view = current_view()
        dropped, _ = _compare(run, view, view.pool(run.params.pool), only_drop=True)
        with transaction() as session:
            session.execute(update(MoveRow).where(MoveRow.change_id == run.change, MoveRow.state == "copied").values(state="dropped"))
        return f"{say_count(dropped, 'old strip')} dropped."

    def withdraw(self, run: Run[RebuildParams]) -> None:
        _Mover(run, "withdraw").call_off()


def _summary(rebuild: Moves, moves: Moves, pool: Pool) -> str:
    size = say_size(len(moves) * pool.extent_bytes)
    if len(rebuild):
        return f"{say_count(len(rebuild), 'strip')} ({size}) to be written again. Nothing has been changed yet."
    if len(moves):
        return f"Nothing is lost; {say_count(len(moves), 'strip')} ({size}) move so that the disks are evenly used. Nothing has been changed yet."
    return "Nothing is lost and the disks are level: there is nothing to move."


def _tell_moves(preview: Preview, view: SiteView, pool: Pool, moves: Moves) -> None:
    """Bytes that arrive and leave, by disk, and the figures before and after."""
    names = {d.number: d.name for d in view.disks}
    for numbers, into in ((moves.to, preview.arriving), (moves.leaves, preview.leaving)):
        values, counts = np.unique(numbers, return_counts=True)
        into.update({names[n]: c * pool.extent_bytes for n, c in zip(values.tolist(), counts.tolist(), strict=True) if n in names})
    lost = sum(int(lost_strips(view, v).sum()) for v in view.volumes_of(pool))
    preview.rows += [
        Row(label="Strips to write again", before=Figure("lost", lost, "count"), after=Figure("lost", moves.stuck if lost else 0, "count")),
        Row(label="Furthest disk from level", before=Figure("furthest", imbalance(view, pool), "share")),
        Row(label="Fewest moves that could level it", before=Figure("least", least_moves(view, pool), "count")),
        Row(label="Data to move", after=Figure("data", len(moves) * pool.extent_bytes, "bytes")),
    ]


def _compare(run: Run[RebuildParams], view: SiteView, pool: Pool, only_drop: bool = False) -> tuple[int, int]:
    """Strips dropped and strips found missing over the pool's reachable disks. A node that falls silent is left for later."""
    should = _should_hold(view, pool, run)
    by_serial = {d.serial: d for d in view.disks if d.pool == view.pool_row(pool)}
    dropped = missing = 0
    for row, node in enumerate(view.nodes):
        serials = [d.serial for d in by_serial.values() if d.node == row and view.disk_ready[view.row_of_number[d.number]]]
        if not serials:
            continue
        agent = run.agent(node.number)
        try:
            held = {serial: agent.strips(serial) for serial in serials}
        except Unreachable:
            continue
        except NotPossible:
            continue  # a disk left between our view and our question; the watch will say so
        own = {v.number for v in view.volumes_of(pool)}
        beyond = {s: sorted(h - should[by_serial[s].number]) for s, h in held.items()}
        extra = {s: [list(strip) for strip in strips if strip[0] in own or not _known(view, strip[0])] for s, strips in beyond.items()}
        extra = {s: strips for s, strips in extra.items() if strips}
        if extra:
            digest = zlib.crc32(json.dumps(extra, sort_keys=True).encode())
            order = {"id": run.order_id(node.name, f"drop-{digest:x}"), "kind": "drop", "strips": extra}
            run.insist(node.name, partial(agent.send, order))
            dropped += sum(map(len, extra.values()))
        if not only_drop:
            missing += _mark_missing(view, {by_serial[s].number: should[by_serial[s].number] - h for s, h in held.items()})
    return dropped, missing


def _known(view: SiteView, volume: int) -> bool:
    return any(v.number == volume for v in view.volumes)


def _should_hold(view: SiteView, pool: Pool, run: Run[RebuildParams]) -> dict[int, set[tuple[int, int, int]]]:
    """By disk number, the strips that belong on it: the placement's, and those on their way."""
    should: dict[int, set[tuple[int, int, int]]] = defaultdict(set)
    for volume in view.volumes_of(pool):
        for disk in np.unique(volume.placement).tolist():
            should[disk] |= {(volume.number, e, s) for e, s in np.argwhere(volume.placement == disk).tolist()}
    with transaction() as session:
        for move in session.scalars(select(MoveRow).where(MoveRow.state.in_(("waiting", "ordered")))):
            should[move.to_disk].add((move.volume_id, move.extent, move.strip))
    return should


def _mark_missing(view: SiteView, missing: dict[int, set[tuple[int, int, int]]]) -> int:
    """Points strips that their disk does not hold at nowhere, so that they are written again."""
    forming = {v.number for v in view.volumes if v.forming}
    wanted = [(v, e, s, disk, 0) for disk, strips in missing.items() for v, e, s in sorted(strips) if v not in forming]
    if not wanted:
        return 0
    with transaction() as session:
        on_their_way = {(m.volume_id, m.extent, m.strip) for m in session.scalars(select(MoveRow).where(MoveRow.state.in_(("waiting", "ordered"))))}
        marked = set_strips(session, [w for w in wanted if w[:3] not in on_their_way])
        announce(session, "site")
    return len(marked)


@dataclass(slots=True)
class _Mover:
    """Carries moves out: plans what is needed, orders copies, points the placement at what has arrived, and plans again."""

    run: Run[RebuildParams]
    part: str
    history: list[tuple[float, int]] = field(default_factory=list)  # (seconds, bytes so far)
    unfinished: dict[str, int] = field(default_factory=dict)  # bytes of unfinished strips, by order
    extent_bytes: int = 0

    def carry(self, level: bool) -> tuple[int, str]:
        """Until nothing is left to do. Returns strips copied by this change in this step, and why some are stuck."""
        planned_levelling = self._has_moves()  # levelling is planned once; a resumed step goes on with its plan
        while True:
            self.run.check_asked()
            view = current_view()
            pool = view.pool(self.run.params.pool)
            self.extent_bytes = pool.extent_bytes
            self._collect(view)
            view = current_view()  # what has just arrived is no longer lost
            self._call_off_needless(view)
            moves = plan_rebuild(view, pool, self.run.change, self._open_keys())
            if level and not planned_levelling and not len(moves) and imbalance(view, pool) > LEVEL_TOLERANCE and self._all_ready(view, pool):
                moves = plan_levelling(view, pool, self.run.change)
                planned_levelling = True
            stuck = moves.why
            self._plan(view, moves)
            self._order(view, pool)
            left, copied = self._counts()
            self._tell_progress(pool, left, copied)
            if not left:
                return copied, stuck
            time.sleep(LOOK_SECONDS)

    def call_off(self) -> None:
        """Stops the copies; what has arrived stays."""
        view = current_view()
        self._collect(view)
        with transaction() as session:
            orders = {
                (m.order_id, d.node_id)
                for m, d in session.execute(
                    select(MoveRow, DiskRow).join(DiskRow, DiskRow.id == MoveRow.to_disk).where(self._mine(), MoveRow.state == "ordered")
                )
            }
        for order, node in sorted(orders):
            try:
                self.run.agent(node).cancel(str(order))
            except Unreachable:
                continue  # its strips are compared when it returns
        with transaction() as session:
            session.execute(update(MoveRow).where(self._mine(), MoveRow.state.in_(("waiting", "ordered"))).values(state="withdrawn"))
            announce(session, "site")

    # One look. -----------------------------------------------------------------------------------

    def _mine(self) -> Any:
        return MoveRow.change_id == self.run.change

    def _has_moves(self) -> bool:
        """Whether this step has planned its levelling: moves that leave a disk which could be read then carry the step's mark."""
        with transaction() as session:
            return bool(session.scalar(select(func.count(MoveRow.id)).where(self._mine(), MoveRow.part == "level"))) and self.part == "level"

    def _open_keys(self) -> dict[tuple[int, int, int], int]:
        with transaction() as session:
            rows = session.execute(select(MoveRow.volume_id, MoveRow.extent, MoveRow.strip, MoveRow.to_disk).where(MoveRow.state.in_(("waiting", "ordered"))))
            return {(v, e, s): to for v, e, s, to in rows}

    def _all_ready(self, view: SiteView, pool: Pool) -> bool:
        rows = view.in_pool(pool)
        return bool((view.disk_ready[rows] | view.disk_given_up[rows]).all())

    def _plan(self, view: SiteView, moves: Moves) -> None:
        if not len(moves):
            return
        columns = ("volume_id", "extent", "strip", "leaves", "to_disk")
        values = zip(moves.volume.tolist(), moves.extent.tolist(), moves.strip.tolist(), moves.leaves.tolist(), moves.to.tolist(), strict=True)
        with transaction() as session:
            session.execute(insert(MoveRow), [dict(zip(columns, row, strict=True)) | {"change_id": self.run.change, "part": self.part} for row in values])
            announce(session, "site", "changes")

    def _order(self, view: SiteView, pool: Pool) -> None:
        """Hands waiting moves to the agents of the disks they go to, a few orders a node at a time."""
        with transaction() as session:
            waiting = list(session.scalars(select(MoveRow).where(self._mine(), MoveRow.state == "waiting").order_by(MoveRow.id)))
            busy = set(session.scalars(select(MoveRow.order_id).where(self._mine(), MoveRow.state == "ordered")))
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
        volume, extent, strip, leaves, to = (np.array([getattr(m, a) for m in batch]) for a in ("volume_id", "extent", "strip", "leaves", "to_disk"))
        plan = Moves(volume, extent, strip, leaves, to)
        come, which = sources(view, plan)
        serials = {d.number: d.serial for d in view.disks}
        ready = [
            (m, serials[c], w) for m, c, w in zip(batch, come.tolist(), which.tolist(), strict=True) if c and view.disk_ready[view.row_of_number[m.to_disk]]
        ]
        self._withdraw([m.id for m, c in zip(batch, come.tolist(), strict=True) if not c])  # planned anew when they can be read
        if not ready:
            return
        order = self.run.order_id(name, f"{self.part}-{ready[0][0].id}-{len(ready)}-{view.revision}")
        strips = [
            {"volume": m.volume_id, "extent": m.extent, "strip": m.strip, "bytes": pool.extent_bytes, "from": c, "from_strip": w, "to": serials[m.to_disk]}
            for m, c, w in ready
        ]
        with transaction() as session:
            session.execute(update(MoveRow).where(MoveRow.id.in_([m.id for m, _, _ in ready])).values(state="ordered", order_id=order))
        try:
            self.run.agent(node).send({"id": order, "kind": "copy", "strips": strips})
        except Unreachable:
            return  # the next look finds the order unknown and gives it again
        except NotPossible as error:
            self._give_back(order)
            self.run.say(error.sentence)

    def _give_back(self, order: str) -> None:
        """Moves of an order that will not be done wait again."""
        with transaction() as session:
            session.execute(update(MoveRow).where(self._mine(), MoveRow.order_id == order, MoveRow.state == "ordered").values(state="waiting", order_id=None))

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
            if progress.state == "failed":  # a source does not hold what we think it does: find out what else is amiss
                self.run.say(f"{name}: {progress.problem}.")
                _compare(self.run, view, view.pool(self.run.params.pool))

    def _arrive(self, order: str, finished: tuple[int, ...]) -> None:
        with transaction() as session:
            moves = list(session.scalars(select(MoveRow).where(self._mine(), MoveRow.order_id == order).order_by(MoveRow.id)))
            arrived = [moves[i] for i in finished if i < len(moves) and moves[i].state == "ordered"]
            if not arrived:
                return
            set_strips(session, [(m.volume_id, m.extent, m.strip, m.leaves, m.to_disk) for m in arrived])
            for move in arrived:
                move.state = "copied"
            announce(session, "site")

    def _call_off_needless(self, view: SiteView) -> None:
        """Moves to disks that are away are planned anew; waiting moves away from a disk that came back are not needed."""
        ready = {d.number for row, d in enumerate(view.disks) if view.disk_ready[row]}
        gone = {d.number for row, d in enumerate(view.disks) if view.disk_given_up[row] and not view.disk_ready[row]}
        with transaction() as session:
            needless = [
                m.id
                for m in session.scalars(select(MoveRow).where(self._mine(), MoveRow.state.in_(("waiting", "ordered"))))
                if m.to_disk in gone or (m.part == "copy" and m.state == "waiting" and m.leaves in ready)
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
            found = session.execute(select(MoveRow.state, func.count(MoveRow.id)).where(self._mine(), MoveRow.part == self.part).group_by(MoveRow.state))
            by_state = {state: count for state, count in found}
        return by_state.get("waiting", 0) + by_state.get("ordered", 0), by_state.get("copied", 0) + by_state.get("dropped", 0)

    def _tell_progress(self, pool: Pool, left: int, copied: int) -> None:
        now = time.monotonic()
        done = copied * pool.extent_bytes + sum(self.unfinished.values())
        self.history = [h for h in self.history if h[0] > now - RATE_SECONDS] + [(now, done)]
        first = self.history[0]
        rate = (done - first[1]) / (now - first[0]) if now - first[0] > 0.5 else None
        if copied + left:
            self.run.progress(done, (copied + left) * pool.extent_bytes, rate)
