"""Bringing a volume back to what a snapshot of it holds. The present is kept first, as another."""

from __future__ import annotations

import time
from typing import Any, ClassVar

from foldbarn.changes.engine.effects import Note, Promise, Row, Sums, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Outside
from foldbarn.changes.kinds.snapshots.reading import find_snapshot, how_to_make_room
from foldbarn.changes.kinds.snapshots.take_snapshot import (
    NoteSnapshots,
    TakeSnapshots,
    check_snapshot_name,
    heard_holders,
)
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.policies.limits import holders
from foldbarn.core.site import Contact, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list, say_size
from foldbarn.core.vms.parts import as_part
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.snapshots import Snapshot, differs, held
from foldbarn.settings import settings
from foldbarn.store import vms
from foldbarn.store.database import announce
from foldbarn.store.views import current_view


class RestoreSnapshotParams(Params):
    """A snapshot of a volume, both by name, and the name under which the present is kept first."""

    volume: str
    snapshot: str
    keep_as: str = ""


class BringBack(Outside):
    """Its nodes write over a volume (by number) what it held at a snapshot (by number)."""

    name: ClassVar[str] = "bring-back"
    no_way_back: ClassVar = "begun"
    why_no_way_back: ClassVar[str] = (
        "some of it may be as it was then already; the present is kept as a snapshot"
    )
    volume: int
    number: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        volume = find_volume(view, self.volume)
        if volume is None:
            raise Overtaken("The volume is gone.", about="volume")
        snapshot = next((s for s in volume.snapshots if s.number == self.number), None)
        if snapshot is None:
            raise Overtaken("The snapshot is gone.", about="snapshot")
        for refusal in against_restoring(view, volume, snapshot):
            raise refusal
        if volume.part is not None:  # its memory would know nothing of that
            with run.writing() as session:
                vms.resume_with(session, volume.part.vm, None)
                announce(session, "site")
        ply = volume.whole.number
        order: dict[str, Any] = {"kind": "bring-back", "ply": ply, "number": self.number}
        nodes = list(heard_holders(view, [volume.number]))
        found = run.tell_nodes(dict.fromkeys(nodes, order))
        while any(one.state == "running" for one in found.values()):
            run.check_ending()
            time.sleep(settings().look_seconds)
            # The same order again tells how far it is.
            found = run.tell_nodes(dict.fromkeys(nodes, order))
            run.progress(sum(one.bytes_done for one in found.values()), 0, None)
        for node, one in found.items():
            if one.state != "done":
                name = view.node_numbered(node).name
                raise NotPossible(f"{name} could not bring it back: {one.problem or one.state}.")
        written = sum(one.bytes_done for one in found.values())
        return f"{say_size(written)} written; {volume.name} holds what it held at {snapshot.name}."


def against_restoring(view: SiteView, volume: Volume, snapshot: Snapshot) -> list[NotPossible]:
    """The one rule of whether a volume can be brought back to a snapshot, for the plan and for the step."""
    found = []
    if snapshot.lost:
        found.append(NotPossible(f"{snapshot.name} is lost. {snapshot.lost}", about="snapshot"))
    if snapshot.forming:
        found.append(NotPossible(f"{snapshot.name} is being taken.", about="snapshot"))
    if not volume.offline:
        words = f"{volume.name} is in use: its consumers would see it change under them."
        found.append(NotPossible(words, about="volume", next_step="Take it offline first."))
    numbers = {node for node, _ in holders(view, volume)}
    silent = [n.name for n in view.nodes if n.number in numbers and n.contact != Contact.HEARD]
    if silent:
        hold = "hold" if len(silent) > 1 else "holds"
        words = f"{say_list(silent)} {hold} some of it, and cannot be told."
        found.append(
            NotPossible(words, about="volume", next_step="Bring it back, or wait until that is rebuilt.")
        )
    return found


def against_restoring_room(view: SiteView, volume: Volume, snapshot: Snapshot) -> list[NotPossible]:
    """That what would be overwritten has to be kept, where it finds no room."""
    past = volume.past
    if past is None:
        return []
    left = past.extents * view.data_bytes(past) - held(volume.spans)
    more = differs(volume.spans, snapshot.number)
    if more <= left:
        return []
    words = (
        f"{say_size(more)} would be overwritten and kept, and the room for snapshots has {say_size(left)} "
    )
    words += "left."
    others = any(s.there and s.number != snapshot.number for s in volume.snapshots)
    step = how_to_make_room(view, volume, others=others)
    return [NotPossible(words, about="snapshot", next_step=step or "")]


@register
class RestoreSnapshot(Kind[RestoreSnapshotParams]):
    """note (ours), take (agents): the present; bring back (agents)."""

    name: ClassVar[str] = "restore-snapshot"
    params: ClassVar[type[Params]] = RestoreSnapshotParams

    def plan(self, view: SiteView, params: RestoreSnapshotParams) -> Plan:
        title, keep_as = f"Bring {params.volume or '...'} back to a snapshot", params.keep_as.strip()
        try:
            volume = view.volume(params.volume)
            if refusal := against_altering(volume):
                raise refusal
            snapshot = find_snapshot(volume, params.snapshot)
            check_snapshot_name(volume, keep_as)
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        pool = view.pools[volume.pool]
        refusals = [
            *against_restoring(view, volume, snapshot),
            *against_restoring_room(view, volume, snapshot),
        ]
        more = differs(volume.spans, snapshot.number)
        one = (volume.number,)
        return Plan(
            title=f"Bring {volume.name} back to {snapshot.name}",
            about=volume.name,
            summary=f"About {say_size(more)} of {say_size(volume.size_bytes)} changed since.",
            steps=[
                Planned(NoteSnapshots(volumes=one, called=keep_as), f"Write down {keep_as}, the present"),
                Planned(
                    TakeSnapshots(volumes=one), "Keep the present", "As a snapshot like any other.", seconds=1
                ),
                Planned(
                    BringBack(volume=volume.number, number=snapshot.number),
                    "Write over it what it held then",
                    "From here on there is no way back, but to the present that was kept.",
                    seconds=1,
                ),
            ],
            effects=[
                Promise(
                    title="Independent",
                    sentence=f"{volume.name} has what {snapshot.name} holds of its own then: deleting either "
                    "takes nothing from the other.",
                ),
                Sums(
                    rows=[
                        Row(
                            label="Held by its snapshots",
                            before=Figure("Held", held(volume.spans), "bytes"),
                            after=Figure("Held", held(volume.spans) + more, "bytes"),
                        )
                    ]
                ),
            ],
            touches=[alone(Thing.VOLUME, volume.number), shared(Thing.POOL, pool.number)],
            meant=Meant(volumes=(volume,), pools=(pool,)),
            blockers=[Note.of(error) for error in refusals],
            warnings=_of_vm(view, volume),
        )


def _of_vm(view: SiteView, volume: Volume) -> list[Note]:
    """That what it is part of goes back in part only."""
    if volume.part is None:
        return []
    vm = view.vm_numbered(volume.part.vm)
    words = f"It is {as_part(volume)} of the VM {vm.name}, and the others of it stay as they are."
    return [warning("of-vm", words, next_step="Bring the VM back instead, where all are to go.")]
