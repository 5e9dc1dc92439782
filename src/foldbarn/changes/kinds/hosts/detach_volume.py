"""Parting hosts from a volume. Who has it mounted keeps it until that is undone there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, unchanged
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.engine.targets import MODES
from foldbarn.changes.kinds.hosts.attach_volume import AttachedAt, TellTargets, with_hosts
from foldbarn.changes.kinds.hosts.parting import may_be_in_use
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.hosts.attaching import against_attaching, against_parting, hosts_called, said
from foldbarn.core.hosts.attachments import FileSystem
from foldbarn.core.hosts.lanes import Lane, lanes_of, leaving
from foldbarn.core.site import SiteView
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list
from foldbarn.core.vms.parts import against_while_on
from foldbarn.store import hosts
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import load_view


class DetachVolumeParams(Params):
    """A volume, and the hosts, or groups of hosts, that are to reach it no more."""

    volume: str
    hosts: list[str] = Field(default_factory=list, max_length=200)


class DetachHosts(Inside):
    """A volume (by number) is attached to these hosts no more; gateways and file_system: as it was served and
    used.
    """

    name: ClassVar[str] = "detach-hosts"
    volume: int
    file_system: FileSystem
    gateways: tuple[int, ...]
    hosts: tuple[AttachedAt, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        mine, view = {one.host for one in self.hosts}, load_view(session)
        lanes = [one for one in lanes_of(view, volume=self.volume) if one.host.number in mine]
        if refusals := [*_of_a_vm(view, lanes), *against_parting(lanes, "hosts")]:
            raise refusals[0]
        hosts.detach(session, self.volume, sorted(mine))
        announce(session, "site")
        return f"{say_list([lane.host.name for lane in lanes])} may reach it no more."

    def take_back(self, run: Run) -> None:
        """Those that nobody has attached anew, or forgotten, meanwhile; by the rule by which hosts are
        attached. Raises NotPossible where it does not allow that any more.
        """
        with transaction() as session:
            view = load_view(session)
            known = {host.number for host in view.hosts}
            target, volume = view.target_of(self.volume), find_volume(view, self.volume)
            there = {one.host for one in target.attachments} if target else set()
            lost = [one.attachment() for one in self.hosts if one.host in known - there]
            if not lost or volume is None:
                return
            to_be = with_hosts(view, volume, self.file_system, lost, self.gateways)
            if refusals := against_attaching(view, volume, target, to_be):
                raise refusals[0]
            hosts.attach(session, run.change, to_be, lost)
            announce(session, "site")


def _of_a_vm(view: SiteView, lanes: Sequence[Lane]) -> list[NotPossible]:
    found = (against_while_on(view, lane.volume, "detached with it, and not by itself") for lane in lanes)
    return [refusal for refusal in found if refusal is not None]


@register
class DetachVolume(Kind[DetachVolumeParams]):
    """detach (ours), tell the nodes that served it (agents)."""

    name: ClassVar[str] = "detach-volume"
    params: ClassVar[type[Params]] = DetachVolumeParams

    def plan(self, view: SiteView, params: DetachVolumeParams) -> Plan:
        title = f"Detach {params.volume or '...'}"
        try:
            volume = view.volume(params.volume)
            if not params.hosts:
                raise NotPossible("Name a host, or a group of hosts.", about="hosts")
            users = {host.number for host in hosts_called(view, params.hosts)}
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        lanes = [one for one in lanes_of(view, volume=volume.number) if one.host.number in users]
        if not lanes:
            return Plan(title=title, about=volume.name, blockers=[unchanged("hosts")])
        names = [lane.host.name for lane in lanes]
        target = lanes[0].target
        attached = [AttachedAt.of(lane.attachment) for lane in lanes]
        step = DetachHosts(
            volume=volume.number,
            file_system=target.file_system,
            gateways=target.gateways,
            hosts=tuple(attached),
        )
        return Plan(
            title=f"Detach {volume.name} from {say_list(names)}",
            about=volume.name,
            summary="What it holds stays as it is.",
            steps=[
                Planned(step, "Write down that they reach it no more"),
                Planned(
                    TellTargets(volume=volume.number),
                    "Tell the nodes that serve it",
                    "They let these hosts in no more.",
                    seconds=1,
                ),
            ],
            effects=[
                Texts(heads=["Host", "Now", "Then"], rows=[_row(lane) for lane in lanes]),
                *(
                    Promise(title=f"First, on {lane.host.name}", sentence="; ".join(leaving(lane)))
                    for lane in lanes
                    if lane.live
                ),
            ],
            touches=[
                alone(Thing.TARGET, volume.number),
                *(shared(Thing.HOST, lane.host.number) for lane in lanes),
            ],
            meant=Meant(volumes=(volume,), hosts=tuple(lane.host for lane in lanes)),
            blockers=[Note.of(error) for error in (*_of_a_vm(view, lanes), *against_parting(lanes, "hosts"))],
            warnings=may_be_in_use(lanes),
            undo=_undo(lanes, names),
        )


def _row(lane: Lane) -> TextRow:
    how = f"{MODES[lane.attachment.read_only]}, as {said(lane.target.file_system)}"
    return TextRow(label=lane.host.name, before=how, after="does not reach it")


def _undo(lanes: list[Lane], names: list[str]) -> Undo | None:
    """The wish that attaches them again, where one does."""
    alike = {(one.attachment.transport, one.attachment.read_only, one.attachment.at) for one in lanes}
    if len(alike) > 1:
        return None
    transport, read_only, at = next(iter(alike))
    params = {"volume": lanes[0].volume.name, "hosts": names, "read_only": read_only, "at": at}
    params |= {"transport": transport.value, "file_system": lanes[0].target.file_system.value}
    return Undo("attach-volume", params)
