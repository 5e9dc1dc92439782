"""Switching a virtual machine off: its host lets go of its volumes, and its swap goes."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from typing import ClassVar

from foldbarn.changes.engine.effects import Note, TextRow, Texts, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside
from foldbarn.changes.kinds.vms.power_on import reached_by_host
from foldbarn.changes.kinds.vms.switching import TellAllTargets, look_at, service_of
from foldbarn.changes.kinds.volumes.delete_volume import PutInBin
from foldbarn.changes.kinds.volumes.empty_bin import DropStrips, ForgetVolume
from foldbarn.changes.kinds.volumes.serving import TellServing
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.site import Contact, SiteView, Vm, Volume
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.vms.parts import called, is_swap, parts_of
from foldbarn.core.vms.power import Power, power_of, uuid_of
from foldbarn.settings import settings
from foldbarn.store import hosts, vms
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view, load_view

SHUTS_DOWN_SECONDS = 180.0  # that an operating system may take
SWAP_DAYS = 1  # in the bin; it goes from there at once


class PowerOffParams(Params):
    """forced: as if its power were cut, instead of asking its operating system to shut down. host_gone: its
    host is asked nothing, since it has no power itself: nodes let it in no more. typed: the name of the VM,
    where its host is said to be gone.
    """

    vm: str
    forced: bool = False
    host_gone: bool = False
    typed: str = ""


class SwitchOff(Outside):
    """A virtual machine is off at its host (both by number), which lets go of its volumes."""

    name: ClassVar[str] = "switch-off"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "it is off, and can be switched on again"
    vm: int
    host: int
    forced: bool

    def carry_out(self, run: Run) -> str:
        view = current_view()
        own, name = uuid_of(view, view.vm_numbered(self.vm)), view.host_numbered(self.host).name
        if run.insist(name, lambda: service_of(self.host).is_on(own)):
            kind = "ForceOff" if self.forced else "GracefulShutdown"
            run.insist(name, lambda: service_of(self.host).switch(own, kind))
            self._wait(run, own, name)
        run.insist(name, lambda: service_of(self.host).forget(own))
        look_at(run, self.host)
        return f"{name} says that it is off, and has let go of its volumes."

    def _wait(self, run: Run, own: str, name: str) -> None:
        until = time.monotonic() + SHUTS_DOWN_SECONDS
        run.say("Its operating system shuts down.")
        while run.insist(name, lambda: service_of(self.host).is_on(own)):
            run.check_asked()
            if time.monotonic() > until:
                raise NotPossible(
                    f"It was asked to shut down, and is still on at {name}.",
                    about="vm",
                    next_step="Shut it down from inside, or withdraw this and switch it off by force.",
                )
            time.sleep(settings().look_seconds)


class PartFrom(Inside):
    """A virtual machine is on nowhere from here on, and its host (both by number) reaches none of its
    volumes.
    """

    name: ClassVar[str] = "part-from"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "its host is let in no more"
    vm: int
    host: int

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        vm = view.vm_numbered(self.vm)
        parts = parts_of(view, vm)
        for volume in parts:
            hosts.detach(session, volume.number, [self.host])
        vms.switch(session, vm.number, None, run.change)
        announce(session, "site")
        return (
            f"{view.host_numbered(self.host).name} may reach none of its {say_count(len(parts), 'volume')}."
        )


@register
class PowerOff(Kind[PowerOffParams]):
    """switch off and let go (the host), part (ours), tell nodes (agents); then its swap is dropped (agents)
    and forgotten (ours).
    """

    name: ClassVar[str] = "power-off"
    params: ClassVar[type[Params]] = PowerOffParams

    def plan(self, view: SiteView, params: PowerOffParams) -> Plan:
        title = f"Switch {params.vm or 'a VM'} off"
        try:
            vm = view.vm(params.vm)
            if vm.host is None:
                raise NotPossible(f"{vm.name} is off already.", about="vm")
            host = view.host_numbered(vm.host)
        except BarnError as error:
            return Plan(title=title, about=params.vm, blockers=[Note.of(error)])
        parts = parts_of(view, vm)
        swap = next((volume for volume in parts if is_swap(volume)), None)
        return Plan(
            title=f"Switch {vm.name} off",
            about=vm.name,
            summary=_summary(host.name, params),
            steps=list(_steps(vm, vm.host, host.name, swap, params)),
            effects=[_effect(reached_by_host(view, vm), host.name)],
            touches=[
                alone(Thing.VM, vm.number),
                alone(Thing.HOST, host.number),
                *(alone(Thing.TARGET, volume.number) for volume in parts),
                *_touches_of_swap(view, swap),
            ],
            meant=Meant(vms=(vm,), hosts=(host,)),
            blockers=[*_against(view, vm, params)],
            warnings=[*_forced(view, vm, host.name, params), *_cannot_be_told(view, parts, params)],
            undo=Undo("power-on", {"vm": vm.name}),
            type_to_confirm=vm.name if params.host_gone else "",
        )


def _summary(host: str, params: PowerOffParams) -> str:
    if params.host_gone:
        return f"{host} is asked nothing: nodes let it in no more, so that it can be on elsewhere."
    if params.forced:
        return f"{host} cuts its power, as it were."
    return "Its operating system is asked to shut down, and is waited for."


def _steps(vm: Vm, host: int, name: str, swap: Volume | None, params: PowerOffParams) -> Iterator[Planned]:
    if not params.host_gone:
        how = "Its power is cut" if params.forced else "Its operating system shuts down"
        yield Planned(
            SwitchOff(vm=vm.number, host=host, forced=params.forced),
            f"Switch it off at {name}",
            f"{how}; then {name} lets go of its volumes.",
            seconds=1 if params.forced else 30,
        )
    yield Planned(PartFrom(vm=vm.number, host=host), f"Write down that {name} reaches none of it")
    yield Planned(TellAllTargets(), "Tell the nodes that serve them", seconds=1)
    if swap is None:
        return
    yield Planned(
        PutInBin(volume=swap.number, days=SWAP_DAYS), "Put its swap away", "It is of no use to anybody now."
    )
    yield Planned(TellServing(volumes=(swap.number,)), "Tell its nodes", seconds=1)
    yield Planned(DropStrips(volume=swap.number), "Drop the strips of its swap", seconds=1)
    yield Planned(ForgetVolume(volume=swap.number), "Forget its swap", "Its room is free for others.")


def _touches_of_swap(view: SiteView, swap: Volume | None) -> list[Touch]:
    if swap is None:
        return []
    own = [alone(what, swap.number) for what in (Thing.VOLUME, Thing.COPYING)]
    return [*own, shared(Thing.POOL, view.pools[swap.pool].number)]


def _effect(parts: Sequence[Volume], host: str) -> Texts:
    rows = [
        TextRow(
            label=volume.name,
            before=f"{called(volume)}, at {host}",
            after=f"gone, {say_size(volume.size_bytes)} free" if is_swap(volume) else "reached by no host",
        )
        for volume in parts
    ]
    return Texts(heads=["Its volumes", "Now", "Then"], rows=rows)


def _against(view: SiteView, vm: Vm, params: PowerOffParams) -> list[Note]:
    assert vm.host is not None
    host, runs = view.host_numbered(vm.host).name, view.vm_host(vm.host)
    heard = runs is not None and runs.contact == Contact.HEARD
    if params.host_gone:
        if heard:
            words = f"{host} is heard: it is asked to switch it off."
            return [Note(sentence=words, about="host_gone")]
        if params.typed != vm.name:
            words = (
                f"Type {vm.name} to confirm that {host} has no power: were it on there, and anywhere else, "
            )
            return [Note(sentence=f"{words}its disks would be destroyed.", about="typed")]
        return []
    if not heard:
        why = f" {runs.reason}" if runs is not None and runs.reason else ""
        step = "If it is sure that it has no power, say that it is gone: nodes let it in no more then."
        return [Note(sentence=f"{host} is not heard.{why}", about="vm", next_step=step)]
    return []


def _forced(view: SiteView, vm: Vm, host: str, params: PowerOffParams) -> list[Note]:
    """What is written at this moment, where nobody asks its operating system."""
    if params.host_gone or not params.forced or power_of(view, vm) is not Power.ON:
        return []
    words = f"What its operating system at {host} has not written yet is lost."
    return [warning("cut-off", words, about="forced")]


def _cannot_be_told(view: SiteView, parts: Sequence[Volume], params: PowerOffParams) -> list[Note]:
    """Of nodes that go on letting the host in, as they cannot be told otherwise."""
    if not params.host_gone:
        return []
    numbers = {n for v in parts if (t := view.target_of(v.number)) is not None for n in t.gateways}
    silent = [n.name for n in view.nodes if n.number in numbers and n.contact != Contact.HEARD]
    if not silent:
        return []
    words = f"{say_list(silent)} cannot be told now, and {'let' if len(silent) > 1 else 'lets'} it in until "
    return [warning("cannot-be-told", f"{words}heard again.")]
