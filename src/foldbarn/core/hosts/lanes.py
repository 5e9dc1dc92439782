"""The way of a volume to a host, gate by gate: what has been done, what is missing and how it is done, and
what is not known. Method: docs/methods.md, "Gates".
"""

from __future__ import annotations

import ipaddress
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property
from shlex import quote
from typing import cast

from foldbarn.core.hosts.attachments import Attachment, FileSystem, Target
from foldbarn.core.hosts.facts import Seen
from foldbarn.core.hosts.facts import portal as written
from foldbarn.core.hosts.gateways import Portal, portals_at
from foldbarn.core.hosts.initiators import Transport, target_name, wwid
from foldbarn.core.site import Contact, Host, Node, SiteView, Volume
from foldbarn.core.units import say_count, say_list, say_size


class Gate(StrEnum):
    """What has to be done for a host to use a volume, in this order."""

    LET_IN = "let in"  # by the nodes that serve it; Fold Barn does this
    INITIATOR = "initiator"
    DISCOVERED = "discovered"
    CONNECTED = "connected"
    SEEN = "seen"
    GROWN = "grown"  # only where the volume has grown
    MULTIPATH = "multipath"  # only with iSCSI, and several portals
    CLUSTER = "cluster"  # only for a file system that hosts share
    FILE_SYSTEM = "file system"
    MOUNTED = "mounted"
    KEPT = "kept"  # it comes back when the host starts anew


class Passage(StrEnum):
    """How a gate stands."""

    PASSED = "passed"
    OPEN = "open"  # the next thing to do
    AFTER = "after"  # comes after that
    UNTOLD = "untold"  # nobody tells


@dataclass(frozen=True, slots=True)
class Step:
    """A gate, how it stands and why. commands: for the host's own shell, as its administrator."""

    gate: Gate
    passage: Passage
    reason: str
    commands: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Path:
    """A portal by which a host can reach a volume, and whether it is connected there; why, where it is not,
    and the commands that help, where the host is at fault.
    """

    node: str
    portal: str
    live: bool
    reason: str = ""
    commands: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False)
class Lane:
    """The way of one volume to one host. What follows from these is found out when it is asked for: there may
    be tens of thousands.
    """

    view: SiteView
    volume: Volume
    host: Host
    target: Target
    attachment: Attachment

    @cached_property
    def name(self) -> str:
        """Of the target."""
        return target_name(self.attachment.transport, self.view.mark, self.volume.number)

    @cached_property
    def wwid(self) -> str:
        """Of the disk that the host is to see."""
        return wwid(self.attachment.transport, self.view.mark, self.volume.number)

    @cached_property
    def seen(self) -> Seen | None:
        """That disk, where the host tells of it."""
        return self.host.facts.disk(self.wwid) if self.host.tells else None

    @cached_property
    def nodes(self) -> list[Node]:
        """Those that serve it."""
        return [self.view.node_numbered(number) for number in self.target.gateways]

    @cached_property
    def ways(self) -> list[tuple[Node, tuple[Portal, ...]]]:
        """Those nodes, and where each serves it. Found once for all that the same nodes serve."""
        kept = cast(
            "dict[tuple[int, ...], list[tuple[Node, tuple[Portal, ...]]]]",
            self.view.findings.setdefault("ways", {}),
        )
        if self.target.gateways not in kept:
            kept[self.target.gateways] = [(node, portals_at(self.view, node)) for node in self.nodes]
        return kept[self.target.gateways]

    @cached_property
    def names(self) -> tuple[str, ...]:
        """Under which the host is let in. Found once for all that is attached to it."""
        kept = cast(
            "dict[tuple[int, Transport], tuple[str, ...]]", self.view.findings.setdefault("host names", {})
        )
        key = (self.host.number, self.attachment.transport)
        if key not in kept:
            kept[key] = self.host.names_for(self.attachment.transport)
        return kept[key]

    @cached_property
    def paths(self) -> tuple[Path, ...]:
        return tuple(_paths(self))

    @cached_property
    def width(self) -> int:
        """Paths that there are, connected or not."""
        return sum(len(portals) for _, portals in self.ways)

    @cached_property
    def live(self) -> int:
        """Paths that are connected."""
        return live_paths(self.name, self.names, [where_live(self.view, node) for node in self.nodes])

    @cached_property
    def steps(self) -> tuple[Step, ...]:
        return tuple(_in_turn(_steps(self)))

    @property
    def shown(self) -> bool:
        """Whether the volume shows a snapshot: nobody writes to it, not even to mend what it carries."""
        return self.volume.origin is not None and self.volume.origin.shown

    @property
    def by_uuid(self) -> str:
        """The UUID by which what it carries is told from all that the host sees; empty where none does."""
        if self.seen is None or not self.seen.uuid or self.shown or self.host.facts.twins(self.seen):
            return ""
        return self.seen.uuid

    @property
    def missing(self) -> Step | None:
        """The next thing to do; none where nothing is known to be missing."""
        return next((step for step in self.steps if step.passage == Passage.OPEN), None)

    @property
    def untold(self) -> Step | None:
        """The first gate of which nobody tells; none where all is known."""
        return next((step for step in self.steps if step.passage == Passage.UNTOLD), None)

    @property
    def noticed(self) -> bool:
        """Whether it is found out by itself when the next thing has been done."""
        step = self.missing or self.untold
        return step is not None and (self.host.tells or step.gate in (Gate.LET_IN, Gate.CONNECTED))

    @property
    def mounted(self) -> str:
        """Where the host has it mounted; empty where it has not, or does not tell."""
        return self.seen.mounted if self.seen else ""


Connected = tuple[frozenset[tuple[str, str, str]], tuple[str, ...]]  # sessions with a node, its addresses


def where_live(view: SiteView, node: Node) -> Connected:
    """By what it is seen whether a node serves a host just now; nothing where it is not heard."""
    kept = cast("dict[int, Connected]", view.findings.setdefault("where live", {}))
    if node.number not in kept:
        heard = node.contact == Contact.HEARD and node.serving.sessions
        addresses = tuple(portal.address for portal in portals_at(view, node)) if heard else ()
        kept[node.number] = node.serving.sessions, addresses
    return kept[node.number]


def live_paths(
    target: str, initiators: Sequence[str], nodes: Iterable[Connected], enough: int | None = None
) -> int:
    """Paths by which one of a host's initiators is connected to a target of some nodes; no more are counted
    than are enough.
    """
    found = 0
    for sessions, addresses in nodes:
        for address in addresses:
            for own in initiators:
                if (target, own, address) in sessions:
                    found += 1
                    if found == enough:
                        return found
    return found


def lanes_of(view: SiteView, *, volume: int | None = None, host: int | None = None) -> list[Lane]:
    """Of one volume, of one host (by number), or all, by name of the volume and then of the host."""
    found, only = [], None if volume is None else view.target_of(volume)
    for target in view.targets if volume is None else [only] if only else []:
        mine = [one for one in target.attachments if host is None or one.host == host]
        if mine:
            of = view.volume_numbered(target.volume)
            found += [Lane(view, of, view.host_numbered(one.host), target, one) for one in mine]
    if len(found) < 2:
        return found
    rank = {v.number: place for place, v in enumerate(view.volumes)} if volume is None else {}
    order = {h.number: place for place, h in enumerate(view.hosts)}
    return sorted(found, key=lambda lane: (rank.get(lane.volume.number, 0), order[lane.host.number]))


def _in_turn(steps: Sequence[Step]) -> Iterator[Step]:
    """What comes after a gate that is open waits for that. Where nobody tells of those before it, it takes
    what they would take as well; where none is open, the first of which nobody tells says how it is done.
    """
    untold = [step for step in steps if step.passage == Passage.UNTOLD]
    opened = next((step for step in steps if step.passage == Passage.OPEN), None)
    place = len(steps) if opened is None else steps.index(opened)
    before = [step for step in untold if steps.index(step) < place]
    for number, step in enumerate(steps):
        if step.passage == Passage.PASSED:
            yield step
        elif number > place and opened is not None:
            yield replace(step, passage=Passage.AFTER, reason=f"Comes after '{opened.gate}'.", commands=())
        elif step is opened:
            yield replace(step, commands=(*(c for one in before for c in one.commands), *step.commands))
        else:
            keeps = opened is None and step is untold[0]
            yield step if keeps else replace(step, commands=())


# Paths. ------------------------------------------------------------------------------------------------


def _paths(lane: Lane) -> Iterator[Path]:
    name, names, attachment, host = lane.name, lane.names, lane.attachment, lane.host
    for node, portals in lane.ways:
        for portal in portals:
            at = written(portal.address, attachment.transport.port)
            session = any((name, own, portal.address) in node.serving.sessions for own in names)
            if node.contact != Contact.HEARD:
                yield Path(node.name, at, live=False, reason=f"{node.name} is not heard.")
            elif session:
                yield Path(node.name, at, live=True)
            elif not portal.up:
                why = f"Port {portal.port} of {node.name} is down."
                yield Path(node.name, at, live=False, reason=why)
            elif not any((name, own) in node.serving.lets_in for own in names):
                yield Path(node.name, at, live=False, reason=f"{node.name} does not let it in.")
            else:
                yield _not_connected(name, host, attachment, node.name, at)


def _not_connected(name: str, host: Host, attachment: Attachment, node: str, at: str) -> Path:
    """A path that waits for the host alone."""
    commands: tuple[str, ...] = ()
    if not host.tells:
        why = f"No connection from {host.name} at {at}."
    elif cable := _cable_out(host, at):
        why = f"Port {cable} of {host.name}, which leads there, is down."
    elif _is_known(host, attachment.transport, name, at):
        why = f"{host.name} knows of it, and is not connected."
        commands = _connect(attachment.transport, name, [at])
    else:
        why = f"{host.name} has no record of it at {at}."
        commands = (*_discover(attachment.transport, [at]), *_connect(attachment.transport, name, [at]))
    return Path(node, at, live=False, reason=why, commands=commands)


def _cable_out(host: Host, at: str) -> str:
    """The port of a host that leads to a portal and is down; empty for none."""
    address = ipaddress.ip_address(at.rsplit(":", 1)[0].strip("[]"))
    return next((n for n, own in host.facts.down if address in ipaddress.ip_interface(own).network), "")


def _is_known(host: Host, transport: Transport, name: str, at: str) -> bool:
    """Whether a host has discovered a target at a portal."""
    return ((name if transport is Transport.ISCSI else ""), at) in host.facts.known


def _discover(transport: Transport, portals: Sequence[str]) -> tuple[str, ...]:
    if transport is Transport.ISCSI:
        return tuple(f"iscsiadm -m discovery -t sendtargets -p {at}" for at in portals)
    return tuple(f"echo '-t tcp {_dialled(at)}' >> /etc/nvme/discovery.conf" for at in portals)


def _dialled(at: str) -> str:
    """A portal as the nvme command wants it."""
    address, port = at.rsplit(":", 1)
    return f"-a {address.strip('[]')} -s {port}"


def _connect(transport: Transport, name: str, portals: Sequence[str]) -> tuple[str, ...]:
    if transport is Transport.NVME:
        return ("nvme connect-all",)
    return tuple(f"iscsiadm -m node -T {name} -p {at} --login" for at in portals)


# Gates. ------------------------------------------------------------------------------------------------


def _steps(lane: Lane) -> list[Step]:
    judges: list[tuple[Gate, Callable[[Lane], Step | None]]] = [
        (Gate.LET_IN, _let_in),
        (Gate.INITIATOR, _initiator),
        (Gate.DISCOVERED, _discovered),
        (Gate.CONNECTED, _connected),
        (Gate.SEEN, _is_seen),
        (Gate.GROWN, _grown),
        (Gate.MULTIPATH, _multipath),
        (Gate.CLUSTER, _cluster),
        (Gate.FILE_SYSTEM, _file_system),
        (Gate.MOUNTED, _mounted),
        (Gate.KEPT, _kept),
    ]
    found = []
    for gate, judge in judges:
        step = judge(lane)
        if step is not None:
            assert step.gate == gate
            found.append(step)
    return found


def _passed(gate: Gate, reason: str) -> Step:
    return Step(gate, Passage.PASSED, reason)


def _open(gate: Gate, reason: str, commands: Sequence[str] = ()) -> Step:
    return Step(gate, Passage.OPEN, reason, tuple(commands))


def _by_host(gate: Gate, lane: Lane, reason: str, commands: Sequence[str]) -> Step:
    """A gate that is open, as the host tells; of which nobody tells, where it does not."""
    if lane.host.tells:
        return _open(gate, reason, commands)
    return Step(gate, Passage.UNTOLD, lane.host.why_untold(), tuple(commands))


def _let_in(lane: Lane) -> Step:
    volume, nodes, names = lane.volume, lane.nodes, lane.names
    if not volume.served:
        what = "is in the bin" if volume.binned else "is offline"
        return _open(Gate.LET_IN, f"{volume.name} {what}: its nodes serve none of it.")
    if not names:
        said = lane.attachment.transport.said
        return _open(Gate.LET_IN, f"{lane.host.name} has no name for {said} any more: give it one.")
    told = [n.name for n in nodes if any((lane.name, own) in n.serving.lets_in for own in names)]
    if told:
        return _passed(Gate.LET_IN, f"{say_list(told)} {'let' if len(told) > 1 else 'lets'} it in.")
    heard = [node.name for node in nodes if node.contact == Contact.HEARD]
    if not heard:
        return _open(Gate.LET_IN, f"{say_list([n.name for n in nodes])} cannot be told: not heard.")
    return _open(Gate.LET_IN, f"{say_list(heard)} {'have' if len(heard) > 1 else 'has'} not been told yet.")


_SERVICE = {Transport.ISCSI: "iscsid", Transport.NVME: "nvme-tcp"}
_START = {
    Transport.ISCSI: ("systemctl enable --now iscsid",),
    Transport.NVME: ("modprobe nvme-tcp", "echo nvme-tcp > /etc/modules-load.d/nvme-tcp.conf"),
}


def _initiator(lane: Lane) -> Step:
    host, transport = lane.host, lane.attachment.transport
    if lane.live:
        return _passed(Gate.INITIATOR, "It is connected.")
    names = host.names_for(transport)
    if host.tells and not set(names) & set(host.facts.names):
        return _open(Gate.INITIATOR, *_misnamed(host, transport, names))
    if _SERVICE[transport] in host.facts.services and host.tells:
        return _passed(Gate.INITIATOR, f"{_SERVICE[transport]} runs.")
    return _by_host(Gate.INITIATOR, lane, f"{_SERVICE[transport]} does not run.", _START[transport])


def _misnamed(host: Host, transport: Transport, names: Sequence[str]) -> tuple[str, list[str]]:
    """A host that goes by another name than it is registered with: nodes do not know it by that."""
    theirs = [name for name in host.facts.names if name.startswith("nqn.") == (transport is Transport.NVME)]
    calls = f"calls itself {say_list(theirs)}" if theirs else f"has no name for {transport.said}"
    why = f"{host.name} {calls}, and is registered as {say_list(list(names))}."
    if not names:
        return why, []
    if transport is Transport.NVME:
        return why, [f"echo {names[0]} > /etc/nvme/hostnqn"]
    line = f"echo InitiatorName={names[0]} > /etc/iscsi/initiatorname.iscsi"
    return why, [line, "systemctl restart iscsid"]


def _discovered(lane: Lane) -> Step:
    host, transport = lane.host, lane.attachment.transport
    portals = [path.portal for path in lane.paths]
    if lane.live:
        return _passed(Gate.DISCOVERED, "It is connected.")
    known = [at for at in portals if _is_known(host, transport, lane.name, at)] if host.tells else []
    if known:
        return _passed(Gate.DISCOVERED, f"At {say_list(known)}.")
    if host.tells:
        portals = [at for at in portals if not _cable_out(host, at)]
        if not portals:
            return _open(Gate.DISCOVERED, f"No port of {host.name} that is up leads to any of its portals.")
    there = say_list(portals)
    why = f"Discovery is not set up there: {host.name} has no record of it at {there}."
    return _by_host(Gate.DISCOVERED, lane, why, _discover(transport, portals))


def _connected(lane: Lane) -> Step:
    count = f"{lane.live} of {say_count(lane.width, 'path')}"
    if lane.live:
        return _passed(Gate.CONNECTED, f"By {count}.")
    portals = [path.portal for path in lane.paths]
    if lane.host.tells and lane.attachment.transport is Transport.ISCSI:
        known = lane.host.facts.known
        portals = [at for at in portals if (lane.name, at) in known and not _cable_out(lane.host, at)]
    # The nodes tell of connections, also where the host does not.
    why = f"By none of {say_count(lane.width, 'path')}."
    if lane.attachment.secret_of is not None:
        return _proves_itself(lane, lane.attachment.secret_of, why, portals)
    return _open(Gate.CONNECTED, why, _connect(lane.attachment.transport, lane.name, portals))


def _proves_itself(lane: Lane, orchestrator: int, why: str, portals: Sequence[str]) -> Step:
    """Who logs in by hand types the secret: it is written nowhere here."""
    asked = lane.view.orchestrator_numbered(orchestrator)
    if not asked.secrets:
        words = f"{why} {asked.name} has no secret that is good, so nobody is let in."
        return _open(Gate.CONNECTED, words, ())
    name = asked.secrets[-1].name
    update = f"iscsiadm -m node -T {lane.name} -o update -n node.session.auth"
    commands = (
        f"read -rsp 'Secret of {name}: ' SECRET",
        f"{update}.authmethod -v CHAP",
        f"{update}.username -v {name}",
        f'{update}.password -v "$SECRET"',
        *_connect(lane.attachment.transport, lane.name, portals),
    )
    words = f"{why} It has to prove itself by a secret of {asked.name}, such as {name}."
    return _open(Gate.CONNECTED, words, commands)


def _is_seen(lane: Lane) -> Step:
    if lane.seen is not None:
        return _passed(
            Gate.SEEN, f"As {say_list(list(lane.seen.devices))}, {say_size(lane.seen.size_bytes)}."
        )
    return _by_host(Gate.SEEN, lane, "The host sees no such disk yet.", _rescan(lane))


def _rescan(lane: Lane) -> list[str]:
    """Has the host look at its disks anew."""
    if lane.attachment.transport is Transport.ISCSI:
        return ["iscsiadm -m session --rescan"]
    mine = [device for name, device in lane.host.facts.controllers if name == lane.name]
    return [f"nvme ns-rescan {quote(f'/dev/{device}')}" for device in mine]


ROOM_SHARE = 0.93  # of a device that a file system at least has room for, where it fills it; common practice


def _grown(lane: Lane) -> Step | None:
    """After the volume has grown: the host sees its old size, or the file system on it has not."""
    seen, size = lane.seen, lane.volume.size_bytes
    if seen is None:
        return None
    if seen.size_bytes < size:
        commands = _rescan(lane)
        if seen.map:
            commands.append(f"multipathd resize map {quote(seen.map.rsplit('/', 1)[-1])}")
        why = f"The host sees {say_size(seen.size_bytes)}; by now it has {say_size(size)}."
        return _open(Gate.GROWN, why, [*commands, *_grow_file_system(lane)])
    if seen.room_bytes and seen.room_bytes < ROOM_SHARE * seen.size_bytes:
        why = f"Its file system has room for {say_size(seen.room_bytes)} of {say_size(seen.size_bytes)}."
        return _open(Gate.GROWN, why, _grow_file_system(lane))
    return None


def _grow_file_system(lane: Lane) -> list[str]:
    seen = lane.seen
    if seen is None or not seen.mounted or lane.attachment.read_only:
        return []
    grow = {
        "xfs": f"xfs_growfs {quote(seen.mounted)}",
        "ext4": f"resize2fs {quote(seen.device)}",
        "gfs2": f"gfs2_grow {quote(seen.mounted)}",
    }
    return [grow[seen.file_system]] if seen.file_system in grow else []


def _multipath(lane: Lane) -> Step | None:
    if lane.attachment.transport is Transport.NVME or lane.width < 2:
        return None  # NVMe joins its paths by itself
    if lane.seen is not None and lane.seen.map:
        return _passed(Gate.MULTIPATH, f"As {lane.seen.map}.")
    commands, why = ["systemctl enable --now multipathd", "multipath"], "losing one stops what uses it."
    if lane.mounted:
        # A device that is in use cannot become part of another one.
        commands = [f"umount {quote(lane.mounted)}", *commands, _mount(lane, lane.mounted)]
        why += " For that it has to be out of use for a moment."
    return _by_host(Gate.MULTIPATH, lane, f"Its paths are not joined: {why}", commands)


def _cluster(lane: Lane) -> Step | None:
    """A file system that several hosts write to wants locks that all of them share."""
    if not lane.target.file_system.shared:
        return None
    if lane.host.tells and "dlm" in lane.host.facts.services:
        return _passed(Gate.CLUSTER, "dlm runs: it shares locks with the other hosts.")
    return _by_host(Gate.CLUSTER, lane, "dlm does not run.", ["systemctl enable --now corosync dlm"])


def _file_system(lane: Lane) -> Step | None:
    wanted = lane.target.file_system
    if wanted is FileSystem.NONE:
        return None
    there = lane.seen.file_system if lane.seen else ""
    if there == wanted.value:
        return _passed(Gate.FILE_SYSTEM, f"It carries {there}.")
    if there:
        why = f"It carries {there}, and {wanted} is meant to be made on it: look at what it holds first."
        return _open(Gate.FILE_SYSTEM, why)
    look = [f"udevadm trigger --settle {_device(lane)}"]
    if lane.volume.origin is not None:
        origin = lane.view.volume_numbered(lane.volume.origin.volume)
        why = f"It carries none that {lane.host.name} knows of: it carries what {origin.name} did then."
        return _by_host(Gate.FILE_SYSTEM, lane, why, look)
    if other := _made_by(lane):
        # What a host believes to lie there is of when it last looked: it is not told to make it anew.
        why = f"{other} tells that something lies on it, and {lane.host.name} has not looked since."
        return _by_host(Gate.FILE_SYSTEM, lane, why, look)
    maker = next((one.host for one in lane.target.attachments if not one.read_only), None)
    if maker != lane.host.number:
        who = "a host that may write" if maker is None else lane.view.host_numbered(maker).name
        why = f"It carries none yet; {who} is to make {wanted} on it."
        return _by_host(Gate.FILE_SYSTEM, lane, why, look)
    why = "It carries none yet."
    if lane.volume.written_bytes:
        written_to = say_size(lane.volume.written_bytes)
        why = f"It carries none, and {written_to} of it was written: look whether that is still wanted."
    return _by_host(Gate.FILE_SYSTEM, lane, why, [_make(lane)])


def _made_by(lane: Lane) -> str:
    """Another host that sees a file system on the volume; empty where none tells of one."""
    for one in lane.target.attachments:
        host = lane.view.host_numbered(one.host)
        disk = host.facts.disk(wwid(one.transport, lane.view.mark, lane.volume.number))
        if host is not lane.host and host.tells and disk is not None and disk.file_system:
            return host.name
    return ""


def _make(lane: Lane) -> str:
    """The command that makes the file system: once, on the first of the hosts that may write."""
    device, wanted = _device(lane), lane.target.file_system
    if wanted is not FileSystem.GFS2:
        return f"mkfs.{wanted} {device}"
    writers = sum(not one.read_only for one in lane.target.attachments)
    table = f"{lane.host.group or lane.host.name}:{lane.volume.name}"
    return f"mkfs.gfs2 -p lock_dlm -t {table} -j {writers} {device}"


def _device(lane: Lane) -> str:
    """By which the host uses it; where it does not tell, under the name that udev gives it. For a shell."""
    return quote(lane.seen.device) if lane.seen is not None else _by_id(lane)


def _by_id(lane: Lane) -> str:
    """The name that udev gives it on every host, and after every start."""
    return f"/dev/disk/by-id/{'wwn' if lane.attachment.transport is Transport.ISCSI else 'nvme'}-{lane.wwid}"


def _mounted(lane: Lane) -> Step | None:
    if lane.target.file_system is FileSystem.NONE or not lane.attachment.at:
        return None
    if lane.mounted:
        return _passed(Gate.MOUNTED, f"At {lane.mounted}.")
    at = lane.attachment.at
    commands = [f"mkdir -p {at}", _mount(lane, at)]
    return _by_host(Gate.MOUNTED, lane, f"It is not mounted at {at}.", commands)


def _mount(lane: Lane, at: str) -> str:
    what = f"UUID={quote(lane.by_uuid)}" if lane.by_uuid else _device(lane)
    options = ",".join(_options(lane))
    return f"mount {f'-o {options} ' if options else ''}{what} {quote(at)}"


# What is not even to be mended: what was written last before the snapshot may stand in the journal alone.
_AS_IT_IS = {
    FileSystem.XFS: ("norecovery", "nouuid"),
    FileSystem.EXT4: ("noload",),
    FileSystem.GFS2: ("spectator", "lockproto=lock_nolock"),
    FileSystem.NONE: (),
}


def _options(lane: Lane) -> list[str]:
    """With which it is mounted there (xfs(5), ext4(5) and gfs2(5), from memory)."""
    system = lane.target.file_system
    options = ["ro"] if lane.attachment.read_only else []
    if lane.shown:
        return [*options, *_AS_IT_IS[system]]
    if system is FileSystem.XFS and lane.seen is not None and lane.host.facts.twins(lane.seen):
        options.append("nouuid")  # xfs mounts no file system twice, and takes a copy for the same one
    return options


def _kept(lane: Lane) -> Step:
    """Whether it comes back by itself when the host starts anew."""
    host, part = lane.host, lane.volume.part
    if part is not None and lane.view.vm_numbered(part.vm).host == host.number:
        return _passed(Gate.KEPT, "The host connects to it anew as its VM is switched on.")
    lacks, commands = [], []
    for lack, command in (_starts_with_it(lane), _connects_by_itself(lane), _stands_in_table(lane)):
        lacks += [lack] if lack else []
        commands += command
    if host.tells and not lacks:
        return _passed(Gate.KEPT, "It comes back when the host starts anew.")
    return _by_host(Gate.KEPT, lane, f"When the host starts anew, {say_list(lacks)}.", commands)


Lack = tuple[str, list[str]]  # what is missing, as part of a sentence, and the commands that help
NOTHING: Lack = ("", [])


def _starts_with_it(lane: Lane) -> Lack:
    """That what it takes starts with the host."""
    if lane.attachment.transport is Transport.NVME:
        units = ["nvme-tcp", "nvmf-autoconnect"]
    else:
        units = ["iscsid", *(["multipathd"] if lane.width > 1 else [])]
    units += ["dlm"] if lane.target.file_system.shared else []
    off = [unit for unit in units if not lane.host.tells or unit not in lane.host.facts.enabled]
    if not off:
        return NOTHING
    services = [{"dlm": "corosync dlm"}.get(unit, unit) for unit in off if unit != "nvme-tcp"]
    commands = ["echo nvme-tcp > /etc/modules-load.d/nvme-tcp.conf"] if "nvme-tcp" in off else []
    commands += [f"systemctl enable {' '.join(services)}"] if services else []
    return f"{say_list(off)} {'does' if len(off) == 1 else 'do'} not start", commands


def _connects_by_itself(lane: Lane) -> Lack:
    own = (lane.name, "")
    starts = {at for target, at in lane.host.facts.by_itself if target in own} if lane.host.tells else set()
    if starts & {path.portal for path in lane.paths}:
        return NOTHING
    if lane.attachment.transport is Transport.NVME:
        return "it asks none of the portals", list(_discover(Transport.NVME, [p.portal for p in lane.paths]))
    command = f"iscsiadm -m node -T {lane.name} -o update -n node.startup -v automatic"
    return "it does not connect by itself", [command]


def _stands_in_table(lane: Lane) -> Lack:
    """The line for the table of file systems, by UUID: names of devices change from start to start."""
    if lane.target.file_system is FileSystem.NONE or not lane.attachment.at:
        return NOTHING
    at, uuid = lane.mounted or lane.attachment.at, lane.by_uuid
    lines = [line for line in lane.host.facts.kept if line.at == at] if lane.host.tells else []
    what = f"UUID={uuid}" if uuid else _by_id(lane) if lane.seen and lane.seen.uuid else _device(lane)
    if lane.seen and lane.seen.uuid and any(line.source == what for line in lines):
        return NOTHING
    options = ",".join([*_options(lane), "_netdev", "nofail"])
    place = at.replace(" ", "\\040")  # as fstab(5) wants it
    adds = f"echo {quote(f'{what} {place} {lane.target.file_system} {options} 0 0')} >> /etc/fstab"
    if not lines:
        return "/etc/fstab does not name it", [adds]
    drops = f"sed -i {quote(f'{chr(92)}#[[:space:]]{place}[[:space:]]#d')} /etc/fstab"
    by_device = any(line.source.startswith("/dev/sd") for line in lines)
    why = "names it by a device that may be another then" if by_device else "names something else there"
    if lane.seen and lane.seen.uuid and any(line.source == f"UUID={lane.seen.uuid}" for line in lines):
        why = "names it by a UUID that another disk has as well"
    return f"/etc/fstab {why}", [drops, adds]


# Leaving. ----------------------------------------------------------------------------------------------


def leaving(lane: Lane) -> tuple[str, ...]:
    """How a host lets go of a volume, in this order."""
    found, seen = [], lane.seen
    if seen and seen.mounted:
        found.append(f"umount {quote(seen.mounted)}")
    own = lane.by_uuid or lane.wwid
    if seen and seen.uuid and any(own in line.source for line in lane.host.facts.kept):
        found.append(f"sed -i {quote(f'/{own}/d')} /etc/fstab")
    if lane.attachment.transport is Transport.NVME:
        return (*found, f"nvme disconnect -n {lane.name}")
    if seen and seen.map:
        found.append(f"multipath -f {quote(seen.map.rsplit('/', 1)[-1])}")
    return (*found, f"iscsiadm -m node -T {lane.name} --logout", f"iscsiadm -m node -T {lane.name} -o delete")
