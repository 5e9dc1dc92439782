"""Taking a snapshot of a virtual machine with its memory: it stands still while that is written to a volume
of its own and all its other volumes are marked, and goes on then.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.snapshots.room import set_up
from foldbarn.changes.kinds.snapshots.take_snapshot import (
    HOLD_SECONDS,
    NoteSnapshots,
    TakeSnapshots,
    check_snapshot_name,
    with_room,
)
from foldbarn.changes.kinds.vms.power_on import OpenPart, let_in, to_find
from foldbarn.changes.kinds.vms.switching import TellAllTargets, service_of
from foldbarn.changes.kinds.volumes.create_volume import (
    CreateVolumeParams,
    New,
    PlaceAll,
    ReserveAll,
    place_of,
    placed,
    room_effects,
    touches_of,
)
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.hosts.attaching import transport_for
from foldbarn.core.hosts.attachments import Attachment
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.names import folded
from foldbarn.core.site import PartOf, Pool, SiteView, Vm, VmPart, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_binary, say_count, say_size
from foldbarn.core.vms.parts import lasting_parts, volume_name
from foldbarn.core.vms.power import Power, power_of, uuid_of
from foldbarn.core.volumes.bin import against_altering
from foldbarn.core.volumes.origins import against_marking
from foldbarn.core.volumes.snapshots import MOST_ROOM, USUAL_ROOM
from foldbarn.store import hosts, snapshots, vms, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view


class KeepMemoryParams(Params):
    """name: of the snapshot; room: per cent that a volume sets aside for what is overwritten, with its first
    one.
    """

    vm: str
    name: str = ""
    room: int = Field(default=USUAL_ROOM, ge=1, le=MOST_ROOM)


class NameMemory(Inside):
    """The volume that the change has placed takes what the memory of a virtual machine (by number) holds at
    the snapshot that the change takes of its configuration (by number).
    """

    name: ClassVar[str] = "name-memory"
    vm: int
    configuration: int

    def carry_out(self, run: Run, session: Session) -> str:
        place = snapshots.numbers_by(session, run.change).get(self.configuration)
        if place is None:
            raise NotPossible("The snapshot is gone.", next_step="Withdraw this change.")
        vm = load_view(session).vm_numbered(self.vm)
        vms.make_part(session, run.change, 0, PartOf(vm.number, VmPart.MEMORY, place))
        announce(session, "site")
        return f"It is to hold what the memory of {vm.name} does then."


class LetInToMemory(Inside):
    """The host of a virtual machine (both by number) reaches the volume that the change has made."""

    name: ClassVar[str] = "let-in-to-memory"
    vm: int
    host: int
    transport: Transport

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        vm, host = view.vm_numbered(self.vm), view.host_numbered(self.host)
        if vm.host != host.number:
            raise NotPossible(f"{vm.name} is not on at {host.name} any more.", about="vm")
        made = volumes.of_change(session, run.change, 0)
        if made is None:
            raise NotPossible("What was placed is gone.", next_step="Withdraw this change.")
        volume = view.volume_numbered(made.number)
        if view.target_of(volume.number) is None:
            let_in(session, run, view, vm, volume, Attachment(host.number, self.transport))
            announce(session, "site")
        return f"{host.name} is let in."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            hosts.detach_made_by(session, run.change)
            announce(session, "site")


class WriteMemory(Outside):
    """A virtual machine stands still, and its host (both by number) has written its memory down."""

    name: ClassVar[str] = "write-memory"
    consumers_wait: ClassVar[bool] = True
    vm: int
    host: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        vm, name = view.vm_numbered(self.vm), view.host_numbered(self.host).name
        with transaction() as session:
            made = volumes.of_change(session, run.change, 0)
        if made is None:
            raise NotPossible("What was placed is gone.", next_step="Withdraw this change.")
        disk = to_find(view, vm, view.volume_numbered(made.number))
        own = uuid_of(view, vm)
        run.insist(name, lambda: service_of(self.host).switch(own, "Pause"))
        run.say(f"{name} writes {say_binary(vm.memory_bytes)} of memory.")
        run.insist(name, lambda: service_of(self.host).write_memory(own, disk))
        return f"{name} has written {say_binary(vm.memory_bytes)}; {vm.name} stands still."

    def take_back(self, run: Run) -> None:
        _go_on(self.vm, self.host)


class GoOn(Outside):
    """A virtual machine goes on at its host (both by number)."""

    name: ClassVar[str] = "go-on"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is taken, and can be deleted"
    vm: int
    host: int

    def carry_out(self, run: Run) -> str:
        name = current_view().host_numbered(self.host).name
        run.insist(name, lambda: _go_on(self.vm, self.host, strictly=True))
        return f"It goes on at {name}."


def _go_on(vm: int, host: int, *, strictly: bool = False) -> None:
    """A host that does not answer is not waited for, where not strictly: it may have no power."""
    view = current_view()
    own = uuid_of(view, view.vm_numbered(vm))
    try:
        service = service_of(host)
        if service.is_paused(own):
            service.switch(own, "Resume")
    except Unreachable:
        if strictly:
            raise


class PartMemory(Inside):
    """Nobody reaches the volume that the change has made any more."""

    name: ClassVar[str] = "part-memory"
    host: int

    def carry_out(self, run: Run, session: Session) -> str:
        made = volumes.of_change(session, run.change, 0)
        if made is not None:
            hosts.detach(session, made.number, [self.host])
            announce(session, "site")
        return "It is reached by no host."


@register
class KeepMemory(Kind[KeepMemoryParams]):
    """note (ours); place, name (ours), reserve, open (agents) a volume for its memory; let its host in; write
    memory (the host), take (agents), go on (the host); part (ours).
    """

    name: ClassVar[str] = "keep-memory"
    params: ClassVar[type[Params]] = KeepMemoryParams

    def plan(self, view: SiteView, params: KeepMemoryParams) -> Plan:
        name = params.name.strip()
        title = f"Take {name or 'a snapshot'} of the VM {params.vm or '...'}, with its memory"
        try:
            vm = view.vm(params.vm)
            parts = _markable(view, vm, name)
            after, lacking = with_room(view, parts, params.room)
            [image], after = placed(after, [_image(view, vm)])
            assert vm.host is not None
            host = view.host_numbered(vm.host)
            transport = transport_for(host, None)
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        pools = [view.pools[row] for row in sorted({v.pool for v in parts})]
        return Plan(
            title=f"Take {name} of the VM {vm.name}, with its memory",
            about=vm.name,
            summary=f"{say_count(len(parts), 'volume')} at one moment, and {say_size(image.wish.size)} of "
            "memory.",
            steps=[
                *_room_steps(view, pools, lacking),
                *_steps(vm, parts, image, name, transport),
            ],
            effects=[
                Promise(
                    title="It stands still",
                    sentence=f"From when {host.name} begins to write its memory until all volumes are "
                    "marked. Where that comes to nothing, it goes on without.",
                ),
                _effect(parts, image, name),
                *room_effects(view, after, [image.wish.pool], [image]),
            ],
            touches=[
                alone(Thing.VM, vm.number),
                alone(Thing.HOST, host.number),
                *(alone(Thing.VOLUME, volume.number) for volume in parts),
                *(shared(Thing.POOL, pool.number) for pool in pools if pool != image.wish.pool),
                *touches_of([image.wish.pool], image.policy),
            ],
            meant=Meant(vms=(vm,), hosts=(host,)),
            warnings=[warning("stands-still", f"{vm.name} stands still for a while.", about="vm")],
        )


def _markable(view: SiteView, vm: Vm, name: str) -> list[Volume]:
    """Its volumes, of which a snapshot of this name can be taken. Raises BarnError."""
    power = power_of(view, vm)
    if power is Power.OFF:
        step = "Take a snapshot of its volumes instead, or switch it on first."
        raise NotPossible(f"{vm.name} is off: its memory holds nothing.", about="vm", next_step=step)
    if power is not Power.ON:
        assert vm.host is not None
        where = view.host_numbered(vm.host).name
        raise NotPossible(f"{where} does not say that {vm.name} is on.", about="vm")
    parts = lasting_parts(view, vm)
    for volume in parts:
        if refusal := against_altering(volume) or against_marking(volume):
            raise refusal
        check_snapshot_name(volume, name)
    return parts


def _image(view: SiteView, vm: Vm) -> tuple[str, int, CreateVolumeParams]:
    """What holds its memory is kept as its configuration is, in the same pool."""
    kept = lasting_parts(view, vm)[0]
    policy = view.policy_numbered(kept.policy[0]).name if kept.policy is not None else ""
    known = {folded(volume.name) for volume in view.volumes}
    nth = 1
    while folded(volume_name(vm.name, VmPart.MEMORY, nth)) in known:
        nth += 1
    wish = CreateVolumeParams(policy=policy, pool=view.pools[kept.pool].name)
    return volume_name(vm.name, VmPart.MEMORY, nth), vm.memory_bytes, wish


def _room_steps(
    view: SiteView, pools: Sequence[Pool], lacking: Sequence[tuple[Volume, int]]
) -> list[Planned]:
    found: list[Planned] = []
    for pool in pools:
        found += set_up(pool, [(v, n) for v, n in lacking if view.pools[v.pool] is pool], one=False)
    return found


def _steps(vm: Vm, parts: Sequence[Volume], image: New, name: str, transport: Transport) -> Iterator[Planned]:
    assert vm.host is not None
    numbers = tuple(volume.number for volume in parts)
    both = {"vm": vm.number, "host": vm.host}
    yield Planned(NoteSnapshots(volumes=numbers, called=name), "Write down its name")
    yield Planned(
        PlaceAll(each=(place_of(image.wish, image.name, image.policy),)),
        "Choose a disk for every strip of its memory",
        "It is kept as its configuration is.",
    )
    yield Planned(NameMemory(vm=vm.number, configuration=numbers[0]), "Make it its memory at that moment")
    yield Planned(
        ReserveAll(first=0, last=1), "Set the strips aside", "Every agent reserves its strips.", seconds=1
    )
    yield Planned(OpenPart(), "Read the strips back, and open it", seconds=1)
    yield Planned(LetInToMemory(**both, transport=transport), "Let its host in to that")
    yield Planned(TellAllTargets(), "Tell the nodes that serve it", seconds=1)
    yield Planned(WriteMemory(**both), "Write its memory", "It stands still from here on.", seconds=5)
    words = f"Nodes hold writes back for a moment, the same for all, {HOLD_SECONDS} s at the most."
    yield Planned(TakeSnapshots(volumes=numbers), "Mark the moment", words, seconds=1)
    yield Planned(GoOn(**both), "Let it go on", seconds=1)
    yield Planned(PartMemory(host=vm.host), "Write down that nobody reaches its memory")
    yield Planned(TellAllTargets(), "Tell the nodes that served it", seconds=1)


def _effect(parts: Sequence[Volume], image: New, name: str) -> Texts:
    rows = [
        TextRow(label=v.name, before=say_count(len(v.snapshots), "snapshot"), after=f"{name} too")
        for v in parts
    ]
    after = f"{say_size(image.wish.size)} in {image.wish.pool.name}, until it is deleted"
    rows.append(TextRow(label=image.name, before="not there", after=after))
    return Texts(heads=["Its volumes", "Now", "Then"], rows=rows)
