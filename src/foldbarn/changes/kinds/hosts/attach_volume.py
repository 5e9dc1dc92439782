"""Attaching a volume to hosts: they are let in to it from then on, and do the rest themselves."""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import Note, Promise, TextRow, Texts, unchanged, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned, Undo
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside, Outside, Payload
from foldbarn.changes.engine.targets import MODES, TARGETS
from foldbarn.changes.engine.telling import tell_for_a_step
from foldbarn.changes.kinds.volumes.serving import find_volume
from foldbarn.core.errors import BarnError, NotPossible, Overtaken
from foldbarn.core.hosts.attaching import (
    against_attaching,
    against_parting,
    check_place,
    hosts_called,
    said,
    silent,
    transport_for,
)
from foldbarn.core.hosts.attachments import Attachment, FileSystem, Target
from foldbarn.core.hosts.facts import portal
from foldbarn.core.hosts.gateways import choose_gateways, portals_of
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.hosts.lanes import lanes_of
from foldbarn.core.shares.belonging import against_by_itself
from foldbarn.core.site import Host, SiteView, Volume
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_list
from foldbarn.core.vms.parts import against_while_on
from foldbarn.store import hosts, vms
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.views import current_view, load_view

ATTACHED = "attached to no other host"


class AttachVolumeParams(Params):
    """A volume, and the hosts, or groups of hosts, that are to reach it; those that do already stay as they
    are. file_system: what they are to make on it, none for a block device; as it is where nothing is said, or
    as that is which it reads from.
    transport: as each host can where nothing is said. at: where it is to be mounted; /srv and its name where
    nothing is said. secret_of: name of the orchestrator by one of whose secrets the hosts have to prove
    themselves, over iSCSI; their names are enough where it is empty.
    """

    volume: str
    hosts: list[str] = Field(default_factory=list, max_length=200)
    read_only: bool = False
    file_system: FileSystem | None = None
    transport: Transport | None = None
    at: str = ""
    secret_of: str = ""


class AttachedAt(Payload):
    host: int
    transport: Transport
    read_only: bool
    at: str
    secret_of: int | None = None

    @classmethod
    def of(cls, one: Attachment) -> AttachedAt:
        return cls(
            host=one.host,
            transport=one.transport,
            read_only=one.read_only,
            at=one.at,
            secret_of=one.secret_of,
        )

    def attachment(self) -> Attachment:
        return Attachment(self.host, self.transport, self.read_only, self.at, self.secret_of)


class AttachHosts(Inside):
    """A volume (by number) is attached to these hosts too, from here on. gateways: the nodes (by number) that
    were to serve it, as the preview said.
    """

    name: ClassVar[str] = "attach-hosts"
    volume: int
    file_system: FileSystem
    gateways: tuple[int, ...]
    hosts: tuple[AttachedAt, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        view = load_view(session)
        volume = find_volume(view, self.volume)
        if volume is None:
            raise Overtaken("The volume is gone.", about="volume")
        if refusals := against_reaching(view, volume):
            raise refusals[0]
        target = view.target_of(volume.number)
        there = {one.host for one in target.attachments} if target else set()
        fresh = [one.attachment() for one in self.hosts if one.host not in there]
        to_be = with_hosts(view, volume, self.file_system, fresh, self.gateways)
        if others := against_attaching(view, volume, target, to_be):
            raise others[0]
        for one in fresh:  # NotFound where either is gone
            view.host_numbered(one.host)
            if one.secret_of is not None:
                view.orchestrator_numbered(one.secret_of)
        hosts.attach(session, run.change, to_be, fresh)
        if volume.part is not None:  # what they write there its memory would know nothing of
            vms.resume_with(session, volume.part.vm, None)
        announce(session, "site")
        names = [view.host_numbered(one.host).name for one in fresh]
        return f"{volume.name} is attached to {say_list(names)}." if names else "They reach it already."

    def take_back(self, run: Run) -> None:
        with transaction() as session:
            mine = {one.host for one in self.hosts}
            lanes = [
                one for one in lanes_of(load_view(session), volume=self.volume) if one.host.number in mine
            ]
            if refusals := against_parting(lanes, "hosts"):
                raise refusals[0]
            hosts.detach_made_by(session, run.change)
            announce(session, "site")


def against_reaching(view: SiteView, volume: Volume) -> Sequence[BarnError]:
    """Why no host may come to reach a volume by itself."""
    refusal = against_while_on(view, volume, ATTACHED)
    found = [refusal] if refusal is not None else []
    step = "Clients mount {share} instead: its page says how."
    return [*found, *against_by_itself(view, volume, step, about="volume")]


class TellTargets(Outside):
    """The nodes that serve a volume (by number) to hosts know to whom. Those that cannot be told now are told
    as soon as they can.
    """

    name: ClassVar[str] = "tell-targets"
    volume: int

    def carry_out(self, run: Run) -> str:
        target = current_view().target_of(self.volume)
        nodes = {node.number for node in current_view().nodes} if target is None else set(target.gateways)
        return tell_for_a_step(run, TARGETS, nodes)


@register
class AttachVolume(Kind[AttachVolumeParams]):
    """attach (ours), tell the nodes that serve it (agents)."""

    name: ClassVar[str] = "attach-volume"
    params: ClassVar[type[Params]] = AttachVolumeParams

    def plan(self, view: SiteView, params: AttachVolumeParams) -> Plan:
        title = f"Attach {params.volume or '...'}"
        try:
            volume = view.volume(params.volume)
            if refusals := against_reaching(view, volume):
                raise refusals[0]
            if not params.hosts:
                raise NotPossible("Name a host, or a group of hosts.", about="hosts")
            users = hosts_called(view, params.hosts)
            target = view.target_of(volume.number)
            fresh = [host for host in users if target is None or target.attachment(host.number) is None]
            prover = view.orchestrator(params.secret_of) if params.secret_of else None
            to_be, system = _wished(view, params, volume, target, fresh)
        except BarnError as error:
            return Plan(title=title, about=params.volume, blockers=[Note.of(error)])
        attached = [one for one in to_be.attachments if one.host in {host.number for host in fresh}]
        step = AttachHosts(
            volume=volume.number,
            file_system=system,
            gateways=to_be.gateways,
            hosts=tuple(map(AttachedAt.of, attached)),
        )
        names = [host.name for host in fresh]
        return Plan(
            title=f"Attach {volume.name} to {say_list(names)}" if names else title,
            about=volume.name,
            summary=_summary(params, volume, system),
            steps=[
                Planned(step, "Write down who reaches it"),
                Planned(
                    TellTargets(volume=volume.number),
                    "Tell the nodes that serve it",
                    "They let these hosts in. What is left is done on the hosts, and shown step by step.",
                    seconds=1,
                ),
            ],
            effects=[
                Texts(heads=["Host", "Now", "Then"], rows=[_row(view, one, system) for one in attached]),
                Promise(title="Served by", sentence=_served_by(view, to_be)),
            ],
            touches=[
                alone(Thing.TARGET, volume.number),
                # Alone, so that no two volumes come to be mounted at one place.
                *(alone(Thing.HOST, host.number) for host in fresh),
                *([shared(Thing.ORCHESTRATOR, prover.number)] if prover else []),
            ],
            meant=Meant(volumes=(volume,), hosts=tuple(users), orchestrators=(prover,) if prover else ()),
            blockers=[
                *(Note.of(error) for error in against_attaching(view, volume, target, to_be)),
                *([] if fresh else [unchanged("hosts")]),
            ],
            warnings=_warnings(view, to_be, fresh),
            undo=Undo("detach-volume", {"volume": volume.name, "hosts": names}),
        )


def with_hosts(
    view: SiteView,
    volume: Volume,
    system: FileSystem,
    fresh: Sequence[Attachment],
    gateways: Sequence[int] = (),
) -> Target:
    """The target of a volume as it would be with some more hosts. gateways: those that are to serve it, where
    none do yet; in both cases while they can.
    """
    target = view.target_of(volume.number)
    there, serve = (target.attachments, target.gateways) if target else ((), gateways)
    return Target(volume.number, system, choose_gateways(view, volume, serve), (*there, *fresh))


def _wished(
    view: SiteView,
    params: AttachVolumeParams,
    volume: Volume,
    target: Target | None,
    fresh: Sequence[Host],
) -> tuple[Target, FileSystem]:
    """The target as it would be. Raises BarnError."""
    system = params.file_system or (target.file_system if target else _carried(view, volume))
    at = ""
    if system is not FileSystem.NONE:
        at = check_place(params.at.strip() or f"/srv/{volume.name.lower()}")
    elif params.at.strip():
        words = "A block device is mounted nowhere."
        raise NotPossible(words, about="at", next_step="Choose a file system, or leave the place empty.")
    prover = view.orchestrator(params.secret_of).number if params.secret_of else None
    wished = Transport.ISCSI if prover is not None else params.transport
    attached = [
        Attachment(host.number, transport_for(host, wished), params.read_only, at, prover) for host in fresh
    ]
    return with_hosts(view, volume, system, attached), system


def _carried(view: SiteView, volume: Volume) -> FileSystem:
    """What a volume that nobody is attached to carries, as far as is known: as what it reads from."""
    origin = view.target_of(volume.origin.volume) if volume.origin is not None else None
    return origin.file_system if origin is not None else FileSystem.NONE


def _summary(params: AttachVolumeParams, volume: Volume, system: FileSystem) -> str:
    use = "to read" if params.read_only else "to read and write"
    return f"{use.capitalize()}, as {said(system)}. {volume.name} stays where it is."


def _row(view: SiteView, one: Attachment, system: FileSystem) -> TextRow:
    where = f", mounted at {one.at}" if one.at else ""
    how = f"{MODES[one.read_only]} by {one.transport.said}, as {said(system)}{where}"
    if one.secret_of is not None:
        how += f", by a secret of {view.orchestrator_numbered(one.secret_of).name}"
    return TextRow(label=view.host_numbered(one.host).name, before="does not reach it", after=how)


def _served_by(view: SiteView, target: Target) -> str:
    """The nodes that serve it and at which portals."""
    ports = sorted({one.transport.port for one in target.attachments})
    parts = []
    for number in target.gateways:
        node = view.node_numbered(number)
        at = [portal(one.address, port) for port in ports for one in portals_of(node)]
        parts.append(f"{node.name} at {say_list(at, most=8)}")
    return f"{'; '.join(parts)}."


def _warnings(view: SiteView, target: Target, fresh: Sequence[Host]) -> list[Note]:
    found = []
    writers = [one for one in target.attachments if not one.read_only]
    if target.file_system is FileSystem.NONE and len(writers) > 1:
        words = f"{len(writers)} hosts may write to it: what they put on it must be made for that."
        step = "Use a file system that hosts share, or let all but one only read."
        found.append(warning("needs-sharing", words, about="hosts", next_step=step))
    local = target.file_system is not FileSystem.NONE and not target.file_system.shared
    if local and writers and len(target.attachments) > len(writers):
        words = f"Those that only read see what {target.file_system} was when they mounted it, and may fail "
        words += "while another writes."
        found.append(warning("reads-stale", words, about="file_system"))
    if len(target.gateways) == 1:
        name = view.node_numbered(target.gateways[0]).name
        words = f"Only {name} serves it: without it no host reaches the volume."
        found.append(warning("one-gateway", words))
    if quiet := silent(fresh):
        words = f"{say_list(quiet)} {'are' if len(quiet) > 1 else 'is'} not heard: how far "
        words += f"{'they are' if len(quiet) > 1 else 'it is'} will not be known."
        found.append(warning("silent-hosts", words, about="hosts"))
    return found
