"""Letting go of snapshots of a volume. What only they hold is gone then, and wants a name typed."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Row, Sums, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.rebuild import DropOld
from foldbarn.changes.kinds.snapshots.reading import find_snapshot
from foldbarn.changes.kinds.snapshots.room import LetPastGo, TellMarks
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.figures import Figure
from foldbarn.core.site import SiteView, VmPart, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import memory_at
from foldbarn.core.volumes.bin import against_altering, against_bringing_back
from foldbarn.core.volumes.origins import against_losing
from foldbarn.core.volumes.snapshots import Snapshot, freed_by, held, shares
from foldbarn.store import snapshots
from foldbarn.store.database import Session, announce
from foldbarn.store.views import load_view

MOST_SNAPSHOTS = 500


class DeleteSnapshotParams(Params):
    """Snapshots of a volume, by name. typed: the name of the snapshot once more, or of the volume where they
    are several.
    """

    volume: str
    snapshots: list[str] = Field(max_length=MOST_SNAPSHOTS)
    typed: str = ""


class ForgetSnapshots(Inside):
    """Snapshots (by number) of a volume are no more."""

    name: ClassVar[str] = "forget-snapshots"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "what only they held is being let go of"
    volume: int
    numbers: tuple[int, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = find_volume(view, self.volume)
        if volume is not None and (refusal := against_losing(view, volume, self.numbers, about="snapshots")):
            raise refusal
        gone = snapshots.forget(session, self.volume, self.numbers)
        announce(session, "site")
        return f"{say_count(gone, 'snapshot')} forgotten."


@register
class DeleteSnapshot(Kind[DeleteSnapshotParams]):
    """forget (ours), tell marks (agents); of the last ones: let past go (ours), drop old (agents)."""

    name: ClassVar[str] = "delete-snapshot"
    params: ClassVar[type[Params]] = DeleteSnapshotParams

    def plan(self, view: SiteView, params: DeleteSnapshotParams) -> Plan:
        title = f"Delete snapshots of {params.volume or '...'}"
        try:
            volume = view.volume(params.volume)
            if refusal := against_altering(volume, in_bin=True) or against_bringing_back(volume):
                raise refusal
            chosen = list(
                {s.number: s for s in (find_snapshot(volume, name) for name in params.snapshots)}.values()
            )
            if not chosen:
                raise NotPossible("No snapshot is chosen.", about="snapshots")
            for snapshot in chosen:
                if snapshot.forming:
                    raise NotPossible(f"{snapshot.name} is being taken.", about="snapshots")
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        pool, numbers = view.pools[volume.pool], tuple(s.number for s in chosen)
        read = against_losing(view, volume, numbers, about="snapshots")
        names = say_list([s.name for s in chosen])
        last = all(number in numbers for number in volume.marks)
        to_type = chosen[0].name if len(chosen) == 1 else volume.name
        forget = ForgetSnapshots(volume=volume.number, numbers=numbers)
        steps = [
            Planned(
                forget,
                "Forget them" if len(chosen) > 1 else "Forget it",
                "From here on there is no way back.",
            ),
            Planned(
                TellMarks(volume=volume.number),
                "Tell its nodes",
                "They let go of what only these held.",
                seconds=1,
            ),
        ]
        if last and volume.past is not None:
            go = LetPastGo(pool=pool.number, volume=volume.number)
            steps += [
                Planned(
                    go, "Let go of the room for its snapshots", "There are no others that it is kept for."
                ),
                Planned(
                    DropOld(pool=pool.number), "Drop the strips of that room", "They are free for others."
                ),
            ]
        return Plan(
            title=f"Delete {names} of {volume.name}",
            about=volume.name,
            summary=f"{volume.name} itself stays as it is. This cannot be undone.",
            steps=steps,
            effects=[
                Texts(
                    heads=["Snapshot", "It alone holds", "With others"],
                    rows=_rows(volume, chosen),
                ),
                _sums(view, volume, numbers, last=last),
            ],
            touches=[alone(Thing.VOLUME, volume.number), shared(Thing.POOL, pool.number)],
            meant=Meant(volumes=(volume,), pools=(pool,)),
            blockers=[*([Note.of(read)] if read else []), *_against_typed(to_type, params.typed)],
            warnings=[*_asked_for(view, chosen), *_memory_of(view, volume, chosen)],
            type_to_confirm=to_type,
        )


def _asked_for(view: SiteView, chosen: Sequence[Snapshot]) -> list[Note]:
    """What asked for them is told that they are gone."""
    found = []
    for snapshot in chosen:
        if snapshot.asked is not None:
            where = view.orchestrator_numbered(snapshot.asked.orchestrator).name
            words = (
                f"{snapshot.asked.path} in {where} asked for {snapshot.name}, and cannot be used any more."
            )
            found.append(warning("asked-for", words, about="snapshots"))
    return found


def _memory_of(view: SiteView, volume: Volume, chosen: Sequence[Snapshot]) -> list[Note]:
    """That what the memory of a virtual machine held with them is of no use after that."""
    if volume.part is None or volume.part.what is not VmPart.CONFIGURATION:
        return []
    vm = view.vm_numbered(volume.part.vm)
    kept = [image.name for s in chosen if (image := memory_at(view, vm, s.number)) is not None]
    if not kept:
        return []
    words = f"{say_list(kept)} {'hold' if len(kept) > 1 else 'holds'} what the memory of {vm.name} did then, "
    words += "and cannot be used any more."
    return [warning("memory-of", words, about="snapshots", next_step="Delete that next.")]


def _rows(volume: Volume, chosen: Sequence[Snapshot]) -> list[TextRow]:
    found = shares(volume.spans, volume.marks)
    rows = []
    for one in chosen:
        share = found.get(one.number)
        if share is None:
            rows.append(TextRow(label=one.name, before="nothing, it is lost", after="nothing"))
        else:
            rows.append(TextRow(label=one.name, before=say_size(share.alone), after=say_size(share.shared)))
    return rows


def _sums(view: SiteView, volume: Volume, numbers: Sequence[int], *, last: bool) -> Sums:
    """What is taken of the room for its snapshots, and what that takes on disks."""
    now = held(volume.spans)
    freed = freed_by(volume.spans, volume.marks, numbers)
    rows = [
        Row(
            label="Held by its snapshots",
            before=Figure("Held", now, "bytes"),
            after=Figure("Held", now - freed, "bytes"),
        )
    ]
    past = volume.past
    if past is not None:
        on_disks = int((past.placement > 0).sum()) * view.pools[past.pool].strip_bytes
        rows.append(
            Row(
                label="Room for its snapshots, on disks",
                before=Figure("On disks", on_disks, "bytes"),
                after=Figure("On disks", 0 if last else on_disks, "bytes"),
            )
        )
    return Sums(rows=rows)


def _against_typed(wanted: str, typed: str) -> list[Note]:
    if typed == wanted:
        return []
    words = f"Type {wanted} to confirm that what only these snapshots hold may be lost."
    return [Note(sentence=words, about="typed")]
