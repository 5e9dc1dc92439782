"""Making a virtual machine from a snapshot of all volumes of another one. Its volumes are open at once, and
read what has not been written of them yet from there.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Undo
from foldbarn.changes.kinds.snapshots.copy_snapshot import wished_of
from foldbarn.changes.kinds.snapshots.reading import find_to_read, may_give_way
from foldbarn.changes.kinds.vms.make_vm import Part, steps_of_vm
from foldbarn.changes.kinds.volumes.create_volume import (
    New,
    each_once,
    plies_for,
    room_effects,
    touches_of,
    wish_in,
    with_new,
)
from foldbarn.changes.kinds.volumes.warnings import unreadable, warnings_of
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import SiteView, Vm, VmPart, Volume
from foldbarn.core.touching import Meant, Thing, shared
from foldbarn.core.units import say_binary, say_count, say_list, say_size
from foldbarn.core.vms.parts import (
    PartWish,
    called,
    check_shape,
    check_vm_name,
    lasting_parts,
    missing_from,
    newest_of_all,
    volume_name,
)
from foldbarn.core.volumes.bin import check_volume_name
from foldbarn.core.volumes.origins import against_strips
from foldbarn.core.volumes.snapshots import Origin, Snapshot


class CloneVmParams(Params):
    """A virtual machine, which may be in the bin, and a snapshot that all its volumes have, by name; the
    newest where none is named. name: of the new one. cpus, memory: as the original has them where they are 0
    or empty. Each of its volumes keeps what the original keeps, in the same pool.
    """

    vm: str
    snapshot: str = ""
    name: str = ""
    cpus: int = 0
    memory: str = Field(default="", max_length=40)


@register
class CloneVm(Kind[CloneVmParams]):
    """place (ours) and reserve (agents) in each pool, name (ours), read back and open (agents)."""

    name: ClassVar[str] = "clone-vm"
    params: ClassVar[type[Params]] = CloneVmParams

    def plan(self, view: SiteView, params: CloneVmParams) -> Plan:
        name = params.name.strip()
        title = f"Make the VM {name or '...'} from {params.snapshot or params.vm or 'a snapshot'}"
        try:
            check_vm_name(view, name)
            vm = view.vm(params.vm)
            sources = lasting_parts(view, vm)
            cpus = params.cpus or vm.cpus
            memory = check_shape(cpus, params.memory) if params.memory.strip() else vm.memory_bytes
            check_shape(cpus, f"{memory} B")
            read = _readable(view, vm, sources, params.snapshot or _newest(vm, sources))
            made, after = _copied(view, name, read)
        except BarnError as error:
            return Plan(title=title, about=name, blockers=[Note.of(error)])
        parts = sorted(made, key=lambda part: part.new.wish.pool.number)
        pools = list({part.new.wish.pool.number: part.new.wish.pool for part in parts}.values())
        policies = list({p.number: p for part in parts if (p := part.new.policy) is not None}.values())
        snapshot = read[0][1].name
        size = say_size(sum(part.new.wish.size for part in made))
        copies = after.volumes[-len(made) :]
        return Plan(
            title=f"Make the VM {name} from {snapshot} of {vm.name}",
            about=name,
            summary=f"{say_count(cpus, 'processor')}, {say_binary(memory)} of memory; "
            f"{say_count(len(made), 'volume')}, {size} in {say_list([pool.name for pool in pools])}.",
            steps=steps_of_vm(name, cpus, memory, parts),
            effects=[
                Promise(
                    title="At once",
                    sentence="Its volumes can be read and written as soon as they are made. What has not "
                    f"been written of them yet is read from {snapshot}, and is written by itself next.",
                ),
                Promise(
                    title="Until each stands alone",
                    sentence=f"{snapshot} cannot be deleted of what it reads from, nor the bin be emptied of "
                    "that. After that neither has anything of the other.",
                ),
                _effect(read, made),
                *room_effects(view, after, pools, [part.new for part in made]),
            ],
            touches=[
                shared(Thing.VM, vm.number),
                *touches_of(pools, *policies),
                *(shared(Thing.VOLUME, source.number) for source, _ in read),
            ],
            meant=Meant(vms=(vm,), pools=tuple(pools), policies=tuple(policies)),
            warnings=each_once(
                note
                for (source, taken), part, copy in zip(read, made, copies, strict=True)
                for note in (
                    *unreadable(after, copy),
                    *may_give_way(view, source, taken),
                    *warnings_of(view, after, part.new.wish.pool, part.new.wish.scheme, part.new.wish.tier),
                )
            ),
            undo=Undo("delete-vm", {"vm": name}),
        )


def _newest(vm: Vm, sources: Sequence[Volume]) -> str:
    """The name of the newest snapshot of all of these. Raises NotPossible where there is none."""
    found = newest_of_all(sources)
    if found is None:
        words = f"There is no snapshot of all volumes of {vm.name}."
        raise NotPossible(words, about="snapshot", next_step="Take one first.")
    return found.name


def _readable(view: SiteView, vm: Vm, sources: Sequence[Volume], named: str) -> list[tuple[Volume, Snapshot]]:
    """Each volume with what of it is read. Raises BarnError."""
    if gone := missing_from(vm, sources):
        words = (
            f"{vm.name} lacks its {say_list(gone)}: {'they are' if len(gone) > 1 else 'it is'} gone for good."
        )
        raise NotPossible(words, about="vm", next_step="Make volumes from those that are left instead.")
    return [find_to_read(view, source.name, named) for source in sources]


def _copied(
    view: SiteView, name: str, read: Sequence[tuple[Volume, Snapshot]]
) -> tuple[list[Part], SiteView]:
    """A copy of each, placed beside those before it, and the site with all of them. Raises BarnError, with
    the name of the one that it is about.
    """
    made: list[Part] = []
    after = view
    for source, snapshot in read:
        assert source.part is not None
        what, place = source.part.what, source.part.place
        mine = volume_name(name, what, place)
        try:
            check_volume_name(after, mine)
            policy, wishes = wished_of(view, source)
            pool = view.pools[source.pool]
            if refusal := against_strips(view, source, source.pool):
                raise refusal
            wish = wish_in(after, pool, snapshot.bytes or source.size_bytes, wishes, copied=True)
        except BarnError as error:
            words = f"{mine}: {error.sentence}"
            raise NotPossible(words, about=error.about, next_step=error.next_step) from error
        plies = plies_for(after, wish, mine, source)
        origin = source.number, snapshot.number
        new = New(mine, wish, plies, policy, origin)
        label = view.vm_numbered(source.part.vm).disks[place - 1] if what is VmPart.DISK else ""
        made.append(Part(PartWish(what, place, wish.size, label), new))
        after = with_new(after, wish, mine, plies, number=-len(made), origin=Origin(*origin))
    return made, after


def _effect(read: Sequence[tuple[Volume, Snapshot]], made: Sequence[Part]) -> Texts:
    rows = [
        TextRow(
            label=part.new.name,
            before=f"{called(source)} at {snapshot.name}",
            after=f"{say_size(part.new.wish.size)} in {part.new.wish.pool.name}",
        )
        for (source, snapshot), part in zip(read, made, strict=True)
    ]
    return Texts(heads=["Its volumes", "From", "Size, and where"], rows=rows)
