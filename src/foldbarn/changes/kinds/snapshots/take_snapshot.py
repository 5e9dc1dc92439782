"""Taking a snapshot of a volume, or of several at one moment, while they are in use."""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from typing import Any, ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Promise, Row, Sums, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.marks import MARKS
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside, Payload
from foldbarn.changes.engine.telling import TELLING_LOCK
from foldbarn.changes.kinds.pools.effects import room_rows
from foldbarn.changes.kinds.snapshots.reading import how_to_make_room
from foldbarn.changes.kinds.snapshots.room import set_up
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.changes.kinds.volumes.several import OfVolumes, called, find_volumes
from foldbarn.core.errors import BarnError, NotPossible, Overtaken, Unreachable
from foldbarn.core.figures import Figure
from foldbarn.core.names import check_name
from foldbarn.core.policies.adopting import new_past, with_volumes
from foldbarn.core.policies.limits import holders
from foldbarn.core.site import Contact, Ply, Pool, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import is_memory, is_swap
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.origins import against_marking, said_to_give_way
from foldbarn.core.volumes.snapshots import FULL_SOON, MOST_ROOM, USUAL_ROOM, AskedFor, held, room_extents
from foldbarn.core.watch.kept import room_taken
from foldbarn.settings import settings
from foldbarn.store import orchestrators, snapshots
from foldbarn.store.database import Session, advisory_lock, announce, transaction
from foldbarn.store.views import current_view, load_view

HOLD_SECONDS = 10  # that consumers' writes wait at the most


class Asked(Payload):
    """By what, in an orchestrator, a snapshot of one volume is asked for: core.volumes.snapshots.AskedFor."""

    orchestrator: int
    uid: str = Field(min_length=1, max_length=100)
    path: str = Field(max_length=600)
    fills: bool = False

    def value(self) -> AskedFor:
        return AskedFor(self.orchestrator, self.uid, self.path, self.fills)


class TakeSnapshotParams(OfVolumes):
    """name: of the snapshot, the same for all. room: per cent of its size that a volume sets aside for what
    is overwritten, with its first one. scheduled: they go by the schedules of their policies. asked: by what
    in an orchestrator it is asked for, of one volume.
    """

    name: str = ""
    room: int = Field(default=USUAL_ROOM, ge=1, le=MOST_ROOM)
    scheduled: bool = False
    asked: Asked | None = None


class NoteSnapshots(Inside):
    """Snapshots of volumes (by number) are to be taken, and have this name."""

    name: ClassVar[str] = "note-snapshots"
    volumes: tuple[int, ...]
    called: str
    scheduled: bool = False
    asked: Asked | None = None

    def carry_out(self, run: Run, session: Session) -> str:
        if self.asked is not None:
            # Of two that are asked for by the same, one is noted first.
            orchestrators.row_of(session, self.asked.orchestrator)
        view = load_view(session)
        found = [find_volume(view, number) for number in self.volumes]
        chosen = [volume for volume in found if volume is not None]
        if len(chosen) < len(self.volumes):
            raise Overtaken("A volume is gone.", about="volumes")
        check_asked(view, chosen, self.asked)
        for number, volume in zip(self.volumes, chosen, strict=True):
            check_snapshot_name(volume, self.called)
            snapshots.note(
                session,
                number,
                self.called,
                run.change,
                scheduled=self.scheduled,
                asked=self.asked.value() if self.asked else None,
            )
        announce(session, "site")
        return f"{self.called} of {say_count(len(self.volumes), 'volume')}."

    def take_back(self, run: Run) -> None:
        """What has been taken is let go of as nodes are told which there are."""
        with transaction() as session:
            snapshots.take_back(session, run.change)
            announce(session, "site")


class TakeSnapshots(Outside):
    """The nodes of volumes (by number) hold writes back, mark this moment, and let writes go on: it is the
    same moment on all of them. Safe to repeat: what was marked before is marked anew.
    """

    name: ClassVar[str] = "take-snapshots"
    volumes: tuple[int, ...]

    def carry_out(self, run: Run) -> str:
        with transaction() as session:
            numbers = snapshots.numbers_by(session, run.change)
        view = current_view()
        plies = {v.whole.number: numbers[v.number] for v in view.volumes if v.number in numbers}
        if len(plies) < len(self.volumes):
            raise Overtaken("A volume is gone.", about="volumes")
        nodes = heard_holders(view, self.volumes)
        turn = time.time_ns()  # an order of each turn of its own: an agent does the same one once
        began = time.monotonic()
        with _telling_of_marks(run):
            try:
                held = {"seconds": HOLD_SECONDS}
                self._tell(run, nodes, "hold", f"hold{turn}", lambda own: {"plies": own, **held})
                self._tell(
                    run, nodes, "mark", f"mark{turn}", lambda own: {"marks": {str(p): plies[p] for p in own}}
                )
            except NotPossible as error:
                # It was held for too long, or a node has forgotten: nothing is wrong with the wish.
                words = f"A node did not mark the moment: {error.sentence}"
                raise Unreachable(words, next_step="It is taken once more.") from error
            finally:
                # A node that cannot be told lets writes go on by itself, once the time is over.
                with suppress(BarnError):
                    self._tell(run, nodes, "hold", f"go{turn}", lambda own: {"plies": own, "seconds": 0})
        with run.writing() as session:
            snapshots.taken(session, run.change)
            announce(session, "site")
        waited = f"{time.monotonic() - began:.1f} s"
        return f"Taken on {say_count(len(nodes), 'node')}; writes waited no longer than {waited}."

    def _tell(
        self,
        run: Run,
        nodes: dict[int, list[int]],
        kind: str,
        part: str,
        says: Callable[[list[int]], dict[str, Any]],
    ) -> None:
        run.tell_nodes({node: {"kind": kind, **says(own)} for node, own in nodes.items()}, part=part)


@contextmanager
def _telling_of_marks(run: Run) -> Iterator[None]:
    """Nobody tells nodes which snapshots there are meanwhile, from a picture that does not have these yet."""
    while True:
        with advisory_lock(TELLING_LOCK, MARKS.number) as mine:
            if mine:
                yield
                return
        run.check_asked()
        time.sleep(settings().look_seconds)


def heard_holders(view: SiteView, volumes: Sequence[int]) -> dict[int, list[int]]:
    """By number of the node, of those that are heard: numbers of the plies of all of these volumes (by
    number) of which it holds some.
    """
    heard = {node.number for node in view.nodes if node.contact == Contact.HEARD}
    found: dict[int, set[int]] = defaultdict(set)
    for volume in view.volumes:
        if volume.number in volumes:
            for node, _ in holders(view, volume):
                found[node].add(volume.whole.number)
    return {node: sorted(plies) for node, plies in found.items() if node in heard}


def check_snapshot_name(volume: Volume, name: str) -> str:
    """Raises NotPossible, Conflict."""
    return check_name(name, "snapshot", [snapshot.name for snapshot in volume.snapshots])


@register
class TakeSnapshot(Kind[TakeSnapshotParams]):
    """Where there is no room for it: set past (ours), set aside (agents). Then note (ours), take (agents)."""

    name: ClassVar[str] = "take-snapshot"
    params: ClassVar[type[Params]] = TakeSnapshotParams

    def plan(self, view: SiteView, params: TakeSnapshotParams) -> Plan:
        about, name = called(params.volumes), params.name.strip()
        title = f"Take a snapshot of {about}"
        try:
            chosen = find_volumes(view, params.volumes)
            check_asked(view, chosen, params.asked)
            for volume in chosen:
                if refusal := against_altering(volume) or against_marking(volume) or _against_swap(volume):
                    raise refusal
                check_snapshot_name(volume, name)
            after, lacking = with_room(view, chosen, params.room)
        except BarnError as error:
            return Plan(title=title, about=about, blockers=[Note.of(error)])
        about, one = called([v.name for v in chosen]), len(chosen) == 1
        numbers = tuple(v.number for v in chosen)
        pools = [view.pools[row] for row in sorted({v.pool for v in chosen})]
        steps = [
            step
            for pool in pools
            for step in set_up(pool, [(v, n) for v, n in lacking if view.pools[v.pool] is pool], one=one)
        ]
        note = NoteSnapshots(volumes=numbers, called=name, scheduled=params.scheduled, asked=params.asked)
        it = "it" if one else "them"
        words = (
            f"Nodes hold writes to {it} back for a moment, the same for all, {HOLD_SECONDS} s at the most."
        )
        return Plan(
            title=f"Take {name} of {about}",
            about=about,
            summary=f"{say_size(sum(v.size_bytes for v in chosen))}, as of the moment that is marked.",
            steps=[
                *steps,
                Planned(note, "Write down its name"),
                Planned(TakeSnapshots(volumes=numbers), "Mark the moment", words, seconds=1),
            ],
            effects=_effects(view, after, pools, chosen, lacking),
            touches=[
                *(alone(Thing.VOLUME, v.number) for v in chosen),
                *(shared(Thing.POOL, pool.number) for pool in pools),
            ],
            meant=Meant(volumes=tuple(chosen), pools=tuple(pools)),
            warnings=[*_nearly_full(view, chosen), *_cannot_be_told(view, chosen)],
            undo=Undo("delete-snapshot", {"volume": chosen[0].name, "snapshots": [name]}) if one else None,
        )


def _against_swap(volume: Volume) -> NotPossible | None:
    """It goes when its virtual machine is switched off, and what it holds is of no use after that; nor is
    anything written to what a memory held.
    """
    if is_memory(volume):
        words = f"{volume.name} is what the memory of a VM held: nothing is written to it any more."
        return NotPossible(words, about="volumes", next_step="Take one of its other volumes.")
    if not is_swap(volume):
        return None
    words = f"{volume.name} is the swap of a VM: it goes when that is switched off."
    return NotPossible(words, about="volumes", next_step="Take one of its other volumes.")


def check_asked(view: SiteView, chosen: Sequence[Volume], asked: Asked | None) -> None:
    """Whether a snapshot of these volumes may be taken for what asks for it; for the plan and for the step.
    Raises NotPossible, NotFound.
    """
    if asked is None:
        return
    view.orchestrator_numbered(asked.orchestrator)
    if len(chosen) > 1:
        raise NotPossible("What is asked for there is of one volume.", about="volumes")
    known = any(s.asked is not None and s.asked.uid == asked.uid for v in view.volumes for s in v.snapshots)
    if known:
        raise NotPossible(f"One was taken for {asked.path} already.", about="asked")


def with_room(
    view: SiteView, chosen: Sequence[Volume], per_cent: int
) -> tuple[SiteView, list[tuple[Volume, int]]]:
    """The site with room for snapshots of these volumes, and those that have none yet, each with its extents.
    Raises NotPossible where it does not fit.
    """
    lacking = []
    for volume in chosen:
        if volume.past is None:
            extents = room_extents(volume.whole.extents, per_cent)
            mine = view.volume_numbered(volume.number)
            past = new_past(view, mine, extents)
            view = with_volumes(view, {mine.number: _beside(mine, past)})
            lacking.append((volume, extents))
    return view, lacking


def _beside(volume: Volume, past: Ply) -> Volume:
    return replace(volume, plies=(*volume.plies, replace(past, forming=False)))


def _effects(
    view: SiteView,
    after: SiteView,
    pools: Sequence[Pool],
    chosen: Sequence[Volume],
    lacking: Sequence[tuple[Volume, int]],
) -> list[AnyEffect]:
    rows = []
    for volume in chosen:
        past = after.volume_numbered(volume.number).past
        assert past is not None
        room = past.extents * after.data_bytes(past)
        taken = held(volume.spans)
        before = f"{say_size(taken)} of {say_size(room)} taken" if volume.past else "none yet"
        then = f"{say_size(room)}, {past.scheme.counted()}"
        rows.append(TextRow(label=volume.name, before=before, after=then))
    effects: list[AnyEffect] = [
        Promise(
            title="What it holds",
            sentence="Nothing is copied now. What consumers overwrite from then on is kept in its room; "
            "when that is full, the oldest snapshot gives way.",
        ),
        Texts(heads=["Volume", "Room for its snapshots", "Then"], rows=rows),
    ]
    for pool in pools:
        mine = [(v, n) for v, n in lacking if view.pools[v.pool] is pool]
        if mine:
            strips = sum(n * v.whole.scheme.strips for v, n in mine)
            on_disks = Row(
                label="On disks, at once", after=Figure("On disks", strips * pool.strip_bytes, "bytes")
            )
            tiers = {v.whole.tier for v, _ in mine}
            effects.append(Sums(pool=pool.name, rows=[on_disks, *room_rows(view, after, pool, tiers)]))
    return effects


def _nearly_full(view: SiteView, chosen: Sequence[Volume]) -> list[Note]:
    found = []
    for volume in chosen:
        share, goes = room_taken(view, volume), said_to_give_way(view, volume)
        if goes and share >= FULL_SOON:
            words = f"The room for snapshots of {volume.name} is {share:.0%} taken; "
            words += f"once it is full, {goes}."
            step = how_to_make_room(view, volume, others=True)
            found.append(warning("snapshots-give-way", words, about=volume.name, next_step=step))
    return found


def _cannot_be_told(view: SiteView, chosen: Sequence[Volume]) -> list[Note]:
    numbers = {node for volume in chosen for node, _ in holders(view, volume)}
    silent = [n.name for n in view.nodes if n.number in numbers and n.contact != Contact.HEARD]
    if not silent:
        return []
    words = (
        f"{say_list(silent)} cannot be told now: what lies there belongs to it as it is brought up to date."
    )
    return [warning("cannot-be-told", words)]
