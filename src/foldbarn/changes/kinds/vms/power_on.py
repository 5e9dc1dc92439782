"""Switching a virtual machine on: at a host that has room for it, with a swap of its own while it is on."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.hosts.attach_volume import with_hosts
from foldbarn.changes.kinds.vms.switching import TellAllTargets, look_at, service_of
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
from foldbarn.changes.kinds.volumes.setting_aside import read_all_back
from foldbarn.changes.kinds.volumes.warnings import warnings_of
from foldbarn.core.errors import BarnError, NotPossible, Unreachable
from foldbarn.core.hosts.attaching import against_attaching, transport_for
from foldbarn.core.hosts.attachments import Attachment, FileSystem
from foldbarn.core.hosts.facts import portal
from foldbarn.core.hosts.gateways import portals_at
from foldbarn.core.hosts.initiators import Transport, target_name, wwid
from foldbarn.core.site import Contact, PartOf, SiteView, Vm, VmPart, Volume
from foldbarn.core.touching import Meant, Thing, alone
from foldbarn.core.units import say_binary, say_count, say_size
from foldbarn.core.vms.parts import (
    called,
    is_swap,
    lasting_parts,
    memory_at,
    moment_of,
    parts_of,
    volume_name,
)
from foldbarn.core.vms.power import (
    Place,
    against_switching_on,
    file_system_of,
    place_of_part,
    places,
    uuid_of,
)
from foldbarn.links.vm_hosts import DiskToFind
from foldbarn.settings import settings
from foldbarn.store import hosts, vms, volumes
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view

STARTS_SECONDS = 30.0  # that a host may take to say that it is on


class PowerOnParams(Params):
    """host: where, by name; the VM host with the most memory left where none is named. anew: it starts anew,
    though it could go on with what its memory held at the snapshot that it was brought back to.
    """

    vm: str
    host: str = ""
    anew: bool = False


class NameSwap(Inside):
    """The volume that the change has placed is the swap of a virtual machine (by number)."""

    name: ClassVar[str] = "name-swap"
    vm: int

    def carry_out(self, run: Run, session: Session) -> str:
        vm = load_view(session).vm_numbered(self.vm)
        vms.make_part(session, run.change, 0, PartOf(vm.number, VmPart.SWAP))
        announce(session, "site")
        return f"It is the swap of {vm.name}."


class OpenPart(Outside):
    """Each disk must hold what it was given; then the part that the change has made opens."""

    name: ClassVar[str] = "open-part"

    def carry_out(self, run: Run) -> str:
        with transaction() as session:
            made = volumes.of_change(session, run.change, 0)
        if made is None:
            raise NotPossible("What was placed is gone.", next_step="Withdraw this change.")
        read_all_back(run, list(made.plies))
        with run.writing() as session:
            volumes.open_(session, made.number)
            announce(session, "site")
        return "Every disk holds its strips."

    def take_back(self, run: Run) -> None:
        """The steps after it are taken back: nothing has been put there that anybody wants."""
        with transaction() as session:
            made = volumes.of_change(session, run.change, 0)
            if made is not None:
                volumes.close_again(session, made.number)
                announce(session, "site")


class SwitchTo(Inside):
    """A virtual machine is to be on at a host (both by number): it is that which reaches its volumes."""

    name: ClassVar[str] = "switch-to"
    vm: int
    host: int
    transport: Transport
    anew: bool = False

    def carry_out(self, run: Run, session: Session) -> str:
        hosts.row_of(session, self.host)  # of two that want its memory, one comes first
        view = load_view(session)
        vm, host = view.vm_numbered(self.vm), view.host_numbered(self.host)
        if refusal := against_switching_on(view, vm) or " ".join(_place_at(view, vm, self.host).against):
            raise NotPossible(refusal, about="vm", next_step="Withdraw this change, and preview it again.")
        parts = parts_to_reach(view, vm, anew=self.anew)
        for volume in parts:
            let_in(session, run, view, vm, volume, Attachment(host.number, self.transport))
        vms.switch(session, vm.number, host.number, run.change)
        announce(session, "site")
        return f"{host.name} is let in to its {say_count(len(parts), 'volume')}."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            hosts.detach_made_by(session, run.change)
            vms.unswitch(session, self.vm, run.change)
            announce(session, "site")


def let_in(session: Session, run: Run, view: SiteView, vm: Vm, volume: Volume, own: Attachment) -> None:
    """A part of a virtual machine is attached to its host. Raises BarnError."""
    own = replace(own, at=place_of_part(vm, volume))
    to_be = with_hosts(view, volume, file_system_of(volume), [own])
    if refusals := against_attaching(view, volume, view.target_of(volume.number), to_be):
        raise refusals[0]
    hosts.attach(session, run.change, to_be, [own])


class DefineAt(Outside):
    """A host finds the volumes of a virtual machine (both by number), and knows it from here on."""

    name: ClassVar[str] = "define-at"
    vm: int
    host: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        vm, host = view.vm_numbered(self.vm), view.host_numbered(self.host)
        disks = [to_find(view, vm, volume) for volume in reached_by_host(view, vm)]
        run.say(f"{host.name} discovers {say_count(len(disks), 'disk')}, connects to them, and looks.")
        own = uuid_of(view, vm)
        run.insist(
            host.name,
            lambda: service_of(self.host).define(own, vm.name, vm.cpus, vm.memory_bytes, disks),
        )
        return f"{host.name} sees all {say_count(len(disks), 'disk')} of it."

    def take_back(self, run: Run) -> None:
        """It is off there, and unknown, before its volumes are taken from it. A host that does not answer
        keeps nobody from that: what it is let in to no more it cannot write to, whatever it runs.
        """
        view = current_view()
        own = uuid_of(view, view.vm_numbered(self.vm))
        with suppress(Unreachable):
            service = service_of(self.host)
            if service.is_on(own):
                service.switch(own, "ForceOff")
            service.forget(own)
            look_at(run, self.host)


class SwitchOn(Outside):
    """A host switches a virtual machine on (both by number), and says so."""

    name: ClassVar[str] = "switch-on"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is on, and may be in use"
    vm: int
    host: int

    def carry_out(self, run: Run) -> str:
        view = current_view()
        own, name = uuid_of(view, view.vm_numbered(self.vm)), view.host_numbered(self.host).name
        if not service_of(self.host).is_on(own):
            self._switch(run, own, name)
        until = time.monotonic() + STARTS_SECONDS
        while not service_of(self.host).is_on(own):
            run.check_asked()
            if time.monotonic() > until:
                raise Unreachable(f"{name} does not say that it is on.", about=name)
            time.sleep(settings().look_seconds)
        look_at(run, self.host)
        return f"{name} says that it is on."

    def _switch(self, run: Run, own: str, name: str) -> None:
        """From when it is asked for it may have run, whatever becomes of this change: its disks are others
        than its memory knows. Only a host that refuses says that it has not.
        """
        resumes = current_view().vm_numbered(self.vm).resumes
        self._resume_with(run, None)
        try:
            run.insist(name, lambda: service_of(self.host).switch(own, "On"))
        except NotPossible:
            self._resume_with(run, resumes)
            raise

    def _resume_with(self, run: Run, place: int | None) -> None:
        with run.writing() as session:
            vms.resume_with(session, self.vm, place)
            announce(session, "site")


def parts_to_reach(view: SiteView, vm: Vm, *, anew: bool) -> list[Volume]:
    """What its host reaches while it is on, with what its memory held where it goes on from there."""
    memory = None if anew or vm.resumes is None else memory_at(view, vm, vm.resumes)
    swap = [volume for volume in parts_of(view, vm) if is_swap(volume)]
    return [*lasting_parts(view, vm), *swap, *([memory] if memory is not None else [])]


def reached_by_host(view: SiteView, vm: Vm) -> list[Volume]:
    """What its host is let in to."""
    targets = ((volume, view.target_of(volume.number)) for volume in parts_of(view, vm))
    return [v for v, target in targets if target is not None and vm.host and target.attachment(vm.host)]


def to_find(view: SiteView, vm: Vm, volume: Volume) -> DiskToFind:
    """A volume as its host is to find it: at all portals where it is served now."""
    target = view.target_of(volume.number)
    own = None if target is None or vm.host is None else target.attachment(vm.host)
    if target is None or own is None:
        words = f"{volume.name} is not attached to its host any more."
        raise NotPossible(words, next_step="Withdraw this change, and preview it again.")
    nodes = [view.node_numbered(number) for number in target.gateways]
    portals = [
        portal(one.address, own.transport.port)
        for node in nodes
        if node.contact == Contact.HEARD
        for one in portals_at(view, node)
        if one.up
    ]
    if not portals:
        raise Unreachable(f"No node that is heard serves {volume.name}.", about=volume.name)
    return DiskToFind(
        part=called(volume),
        transport=own.transport,
        target=target_name(own.transport, view.mark, volume.number),
        portals=tuple(portals),
        disk=wwid(own.transport, view.mark, volume.number),
        at=own.at if target.file_system is not FileSystem.NONE else "",
    )


@register
class PowerOn(Kind[PowerOnParams]):
    """place and name a swap (ours), reserve and open it (agents), let the host in (ours, agents), define and
    switch on (the host).
    """

    name: ClassVar[str] = "power-on"
    params: ClassVar[type[Params]] = PowerOnParams

    def plan(self, view: SiteView, params: PowerOnParams) -> Plan:
        title = f"Switch {params.vm or 'a VM'} on"
        try:
            vm = view.vm(params.vm)
            if why := against_switching_on(view, vm):
                raise NotPossible(why, about="vm", next_step=_first(view, vm))
            found = places(view, vm)
            place = _chosen(view, vm, found, params.host)
            transport = transport_for(place.host, None)
            [swap], after = placed(view, [_swap(view, vm)])
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        parts = parts_to_reach(view, vm, anew=params.anew)
        host = place.host
        wants = f"{say_count(vm.cpus, 'processor')} and {say_binary(vm.memory_bytes)} of memory"
        return Plan(
            title=f"Switch {vm.name} on at {host.name}",
            about=vm.name,
            summary=f"With {wants}, and {say_size(swap.wish.size)} of swap while it is on.",
            steps=list(_steps(vm, place, transport, swap, anew=params.anew)),
            effects=[
                *_goes_on(view, vm, anew=params.anew),
                Promise(title="Where", sentence=_why(place, found, named=bool(params.host))),
                _places(found),
                _parts(vm, parts, host.name, swap),
                *room_effects(view, after, [swap.wish.pool], [swap]),
            ],
            touches=[
                alone(Thing.VM, vm.number),
                alone(Thing.HOST, host.number),
                *(alone(Thing.TARGET, volume.number) for volume in parts),
                *touches_of([swap.wish.pool], swap.policy),
            ],
            meant=Meant(
                vms=(vm,),
                hosts=(host,),
                pools=(swap.wish.pool,),
                policies=(swap.policy,) if swap.policy else (),
            ),
            warnings=warnings_of(view, after, swap.wish.pool, swap.wish.scheme, swap.wish.tier),
            undo=Undo("power-off", {"vm": vm.name}),
        )


def _first(view: SiteView, vm: Vm) -> str | None:
    """What would help where it cannot be switched on."""
    parts = parts_of(view, vm)
    if vm.host is not None:
        return None
    if vm.template:
        return "Make a VM from it, or make it a VM again."
    if any(volume.offline for volume in parts):
        return "Bring it online first."
    if any(view.target_of(volume.number) for volume in parts):
        return "Detach it there first."
    return None


def _swap(view: SiteView, vm: Vm) -> tuple[str, int, CreateVolumeParams]:
    """It is kept as its configuration is, in the same pool."""
    kept = next(v for v in parts_of(view, vm) if v.part is not None and v.part.what is VmPart.CONFIGURATION)
    policy = view.policy_numbered(kept.policy[0]).name if kept.policy is not None else ""
    wish = CreateVolumeParams(policy=policy, pool=view.pools[kept.pool].name)
    return volume_name(vm.name, VmPart.SWAP, 0), vm.memory_bytes, wish


def _chosen(view: SiteView, vm: Vm, found: Sequence[Place], named: str) -> Place:
    """Raises NotFound, NotPossible."""
    if not found:
        step = "Connect a host as a VM host first."
        raise NotPossible("No host runs virtual machines yet.", about="host", next_step=step)
    if named:
        place = _place_at(view, vm, view.host(named).number)
        if place.against:
            raise NotPossible(" ".join(place.against), about="host")
        return place
    if found[0].against:
        raise NotPossible(
            f"No VM host can take it. {' '.join(w for p in found for w in p.against)}", about="host"
        )
    return found[0]


def _place_at(view: SiteView, vm: Vm, host: int) -> Place:
    """Raises NotPossible where the host (by number) runs no virtual machines."""
    found = next((place for place in places(view, vm) if place.host.number == host), None)
    if found is None:
        name = view.host_numbered(host).name
        step = "Connect it as one first."
        raise NotPossible(f"{name} is not connected as a VM host.", about="host", next_step=step)
    return found


def _why(place: Place, found: Sequence[Place], *, named: bool) -> str:
    """Why it is this host."""
    left = f"{place.host.name} has {say_binary(place.left)} of memory left"
    if named:
        return f"{left}; a person chose it."
    others = [other for other in found if other is not place and not other.against]
    return f"{left}, {'the most of all that can take it' if others else 'and no other VM host can take it'}."


def _places(found: Sequence[Place]) -> Texts:
    rows = [
        TextRow(
            label=place.host.name,
            before=f"{say_binary(max(place.left, 0))} of memory left",
            after=" ".join(place.against) or "can take it",
        )
        for place in found
    ]
    return Texts(heads=["VM host", "It has", "Whether it can take it"], rows=rows)


def _parts(vm: Vm, parts: Sequence[Volume], host: str, swap: New) -> Texts:
    rows = []
    for volume in parts:
        at = place_of_part(vm, volume)
        how = f"mounted by {host} at {at}" if at else f"a disk of it at {host}"
        rows.append(TextRow(label=volume.name, before="reached by no host", after=how))
    after = f"{say_size(swap.wish.size)} in {swap.wish.pool.name}, until it is switched off"
    rows.append(TextRow(label=swap.name, before="not there", after=after))
    return Texts(heads=["Its volumes", "Now", "Then"], rows=rows)


def _goes_on(view: SiteView, vm: Vm, *, anew: bool) -> list[Promise]:
    """That it does not start anew, or could do otherwise."""
    memory = None if vm.resumes is None else memory_at(view, vm, vm.resumes)
    if memory is None:
        return []
    moment = moment_of(view, memory)
    of = f"what its memory held at {moment.name}" if moment is not None else f"what {memory.name} holds"
    words = f"It starts anew, and {of} is not used." if anew else f"It goes on with {of}."
    return [Promise(title="Its memory", sentence=words)]


def _steps(vm: Vm, place: Place, transport: Transport, swap: New, *, anew: bool) -> Iterator[Planned]:
    host = place.host
    yield Planned(
        PlaceAll(each=(place_of(swap.wish, swap.name, swap.policy),)),
        "Choose a disk for every strip of its swap",
        "It is kept as its configuration is.",
    )
    yield Planned(NameSwap(vm=vm.number), "Make it its swap", "It goes when the VM is switched off.")
    yield Planned(
        ReserveAll(first=0, last=1), "Set the strips aside", "Every agent reserves its strips.", seconds=1
    )
    yield Planned(OpenPart(), "Read the strips back, and open it", seconds=1)
    yield Planned(
        SwitchTo(vm=vm.number, host=host.number, transport=transport, anew=anew),
        f"Write down that {host.name} reaches its volumes",
        "Nobody else does, as long as it is on.",
    )
    yield Planned(TellAllTargets(), "Tell the nodes that serve them", seconds=1)
    yield Planned(
        DefineAt(vm=vm.number, host=host.number),
        f"Have {host.name} find its disks",
        "It discovers them, connects, looks at them, and mounts the configuration.",
        seconds=2,
    )
    yield Planned(SwitchOn(vm=vm.number, host=host.number), "Switch it on", seconds=2)
