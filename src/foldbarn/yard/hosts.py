"""The stand-in hosts: machines that use volumes, do nothing but what they are told in their own shell, and
tell how they are in the shapes of ordinary Linux tools.
"""

from __future__ import annotations

import contextlib
import ipaddress
import uuid
from collections.abc import Container, Iterator
from dataclasses import asdict, dataclass, field, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from foldbarn.core.hosts.facts import PROTOCOL
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.shares.share import Protocol
from foldbarn.yard import shares
from foldbarn.yard.shares import FileMount

if TYPE_CHECKING:
    from foldbarn.yard.machines import Machines


@dataclass(slots=True)
class Nic:
    name: str
    address: str  # with prefix
    up: bool = True
    also: list[str] = field(default_factory=list)  # other addresses, with prefix

    @property
    def addresses(self) -> list[str]:
        return [self.address, *self.also]


@dataclass(slots=True)
class Mounted:
    """What is mounted at a place: the disk by what the kernel knows it by."""

    disk: str
    read_only: bool


@dataclass(slots=True)
class StandInHost:
    """A host as it is now. names: what stands in /etc for its initiators; nodes: targets that it discovered,
    [target, portal, startup]; asks: portals in /etc/nvme/discovery.conf; connected: [transport, target,
    portal], tried again by its kernel for as long as they stand there; sizes: of the disks that it sees, as
    its kernel knows them, by what it knows them by; probed: the UUIDs of the file systems that it found on
    them when it looked last; letters: of their devices, by disk, target and (iSCSI) portal; maps: disks that
    multipath has joined; table: lines of /etc/fstab, [what, where, type, options]; proofs: by target, the
    name and the secret that its records have for it; proved: by target and portal, the name by which it is
    logged in. net: shares that it has mounted, by where; passwords: lines of its files of credentials, by
    path.
    """

    name: str
    names: dict[str, str]
    nics: list[Nic] = field(default_factory=list)
    enabled: list[str] = field(default_factory=list)
    active: list[str] = field(default_factory=list)
    nodes: list[list[str]] = field(default_factory=list)
    asks: list[str] = field(default_factory=list)
    connected: list[list[str]] = field(default_factory=list)
    sizes: dict[str, int] = field(default_factory=dict)
    probed: dict[str, str] = field(default_factory=dict)
    letters: dict[str, str] = field(default_factory=dict)
    maps: list[str] = field(default_factory=list)
    mounts: dict[str, Mounted] = field(default_factory=dict)
    table: list[list[str]] = field(default_factory=list)
    proofs: dict[str, list[str]] = field(default_factory=dict)
    proved: dict[str, str] = field(default_factory=dict)
    net: dict[str, FileMount] = field(default_factory=dict)
    passwords: dict[str, list[str]] = field(default_factory=dict)
    power: bool = True

    def own(self, transport: Transport) -> str:
        return self.names.get(transport.value, "")


@dataclass(slots=True)
class Made:
    """A file system, which lies on the volume: every host that sees the disk sees it. first: the ply that its
    volume was first written to; since: the newest snapshot of that there had been when it was made.
    """

    kind: str
    uuid: str
    bytes: int
    first: int = 0
    since: int = 0


TENDERS = ("tender-1", "tender-2", "tender-3")
BRIDGES = ("bridge-1", "bridge-2")


def skerry_hosts() -> list[StandInHost]:
    """Three desks that share a file system, a plotter of which one cable is out, a plain Linux host, the
    nodes of the orchestrator, and two that run virtual machines.
    """
    names = ("ferry-desk-1", "ferry-desk-2", "ferry-desk-3", "chart-plotter", "slipway", *TENDERS, *BRIDGES)
    found = []
    for number, name in enumerate(names, 1):
        nqn = f"nqn.2014-08.org.nvmexpress:uuid:{uuid.uuid5(uuid.NAMESPACE_DNS, name)}"
        host = StandInHost(name, {"iscsi": f"iqn.2019-04.example.skerry:{name}", "nvme": nqn})
        host.nics = [Nic("stor0", f"10.20.9.{number}/16"), Nic("stor1", f"10.21.9.{number}/16")]
        host.nics.append(Nic("lan0", f"10.30.9.{number}/16", also=[f"fd00:30::9:{number:x}/64"]))
        if name in BRIDGES:  # it takes their own people to prepare them, and these have
            host.enabled = ["iscsid", "multipathd", "nvme-tcp", "nvmf-autoconnect"]
            host.active = list(host.enabled)
        found.append(host)
    found[3].nics[1].up = False
    return found


def to_keep(host: StandInHost) -> dict[str, Any]:
    return asdict(host)


def from_kept(kept: dict[str, Any]) -> StandInHost:
    host = StandInHost(**kept)
    host.nics = [Nic(**nic) for nic in kept["nics"]]
    host.mounts = {at: Mounted(**mount) for at, mount in kept["mounts"].items()}
    host.net = {at: FileMount(**mount) for at, mount in kept.get("net", {}).items()}
    return host


# What nodes and hosts know of one another. ---------------------------------------------------------------


def take_serve(machines: Machines, node: str, order: str, targets: dict[str, Any]) -> None:
    """A node serves these targets from here on, and no others."""
    machines.serving[node] = {"order": order, "targets": targets}
    for said in targets.values():
        disk = said["disk"]
        if disk in machines.made:
            _goes_along(machines, disk)
            continue
        if shown := said.get("reads"):
            first = machines.facts_of(shown["ply"]).first
            if carried := carried_at(machines, first, int(shown["at"])):
                machines.made[disk] = replace(carried, first=0)
        elif brought := machines.brought.get(first_of(machines, disk)):
            machines.made[disk] = replace(brought)


def _goes_along(machines: Machines, disk: str) -> None:
    """A volume that lies elsewhere now carries what it did; so does what it was."""
    made, first = machines.made[disk], first_of(machines, disk)
    if made.first and first != made.first and first in machines.brought:
        machines.made_before.append(made)
        machines.made[disk] = replace(made, first=first, since=0)


def first_of(machines: Machines, disk: str) -> int:
    """The ply that a disk's volume was first written to; 0 where nobody serves it, or it holds nothing."""
    plies = {
        ply
        for serving in machines.serving.values()
        for said in serving["targets"].values()
        if said["disk"] == disk
        for ply in said["plies"]
    }
    return min((machines.facts_of(ply).first for ply in plies if str(ply) in machines.plies), default=0)


def carried_at(machines: Machines, first: int, number: int) -> Made | None:
    """The file system that a volume, by the ply it was first written to, carried at a snapshot; None for
    none.
    """
    made = [one for one in (*machines.made_before, *machines.made.values()) if one.first == first]
    return max((one for one in made if one.since < number), key=lambda one: one.since, default=None)


def bring(machines: Machines, first: int, origin: dict[str, Any]) -> None:
    """A copy, by the ply it is first written to, carries what its original did: a ply of that, and the
    snapshot.
    """
    carried = carried_at(machines, machines.facts_of(origin["ply"]).first, int(origin["at"]))
    if carried is not None and first not in machines.brought:
        machines.brought[first] = replace(carried, first=first, since=0)


def node_at(machines: Machines, address: str) -> str:
    """The node that has an address on a port that is up; empty where none answers there."""
    for node in machines.nodes.values():
        for port in node.ports:
            own = machines.addresses.get(f"{node.name}:{port.name}", list(port.addresses))
            if port.up and machines.power[node.name] and address in [a.split("/")[0] for a in own]:
                return node.name
    return ""


@lru_cache(maxsize=4096)  # each report asks it of the same few, and reading them takes long
def _in_network(address: str, of: str) -> bool:
    """Whether an address lies in the network of a port's own."""
    return ipaddress.ip_address(address) in ipaddress.ip_interface(of).network


def _split(at: str) -> tuple[str, int]:
    address, _, port = at.rpartition(":")
    return address.strip("[]"), int(port)


def offered(machines: Machines, host: StandInHost, at: str) -> dict[str, Any]:
    """The targets that a host is offered at a portal, by name; none where nobody answers it there."""
    address, port = _split(at)
    transport = next((t for t in Transport if t.port == port), None)
    if transport is None or not host.power:
        return {}
    reach = any(nic.up and _in_network(address, nic.address) for nic in host.nics)
    node = node_at(machines, address) if reach else ""
    if not node or (node, port) in machines.shut:
        return {}
    return {
        name: said
        for name, said in machines.serving.get(node, {}).get("targets", {}).items()
        if said["transport"] == transport.value
        and address in said["portals"]
        and host.own(transport) in said["allows"]
    }


def live(
    machines: Machines, host: StandInHost, at_any_of: Container[str] | None = None
) -> Iterator[tuple[str, str, str, dict[str, Any]]]:
    """What a host is connected to at this moment, at these addresses: transport, target, portal, and what is
    said of the target.
    """
    for transport, target, at in host.connected:
        if at_any_of is not None and _split(at)[0] not in at_any_of:
            continue
        said = offered(machines, host, at).get(target)
        if said is not None and logged_in(host, target, at, said) is not None:
            yield transport, target, at, said


def logged_in(host: StandInHost, target: str, at: str, said: dict[str, Any]) -> str | None:
    """By the name of which secret a host is let in; empty where its own name is enough, None where it is not
    let in. Who is let go, as a secret is good no more, logs in again by what its records have.
    """
    good = said.get("secrets", {}).get(host.own(Transport(said["transport"])))
    if good is None:
        return ""
    key = f"{target} {at}"
    if host.proved.get(key) in good:
        return host.proved[key]
    name, secret = host.proofs.get(target, ("", ""))
    if not secret or good.get(name) != secret:
        host.proved.pop(key, None)
        return None
    host.proved[key] = name
    return name


def serves(machines: Machines, node: str) -> dict[str, Any]:
    """What a node tells of its hosts: by which order it goes, and who is connected."""
    own = {
        address.split("/")[0]
        for port in machines.nodes[node].ports
        for address in machines.addresses.get(f"{node}:{port.name}", list(port.addresses))
    }
    sessions = [
        [target, host.own(Transport(transport)), _split(at)[0], *_by(host, target, at, said)]
        for host in machines.hosts.values()
        for transport, target, at, said in live(machines, host, own)
    ]
    return {"order": machines.serving.get(node, {}).get("order", ""), "sessions": sorted(sessions)}


def _by(host: StandInHost, target: str, at: str, said: dict[str, Any]) -> list[str]:
    """The name of the secret by which it is logged in, if any."""
    name = logged_in(host, target, at, said)
    return [name] if name else []


# What happens on a host. -----------------------------------------------------------------------------------


def scan(machines: Machines, host: StandInHost) -> None:
    """Its kernel looks at all disks that it is connected to: how large they are, and which are new."""
    for transport, target, at, said in live(machines, host):
        disk = said["disk"]
        if disk not in host.sizes:
            probe(machines, host, disk)
        host.sizes[disk] = said["bytes"]
        key = f"{disk} {target} {at}" if transport == "iscsi" else f"{disk} {target}"
        if key not in host.letters:
            host.letters[key] = _next_device(host, transport)
    if "multipathd" in host.active:
        join(host)


def probe(machines: Machines, host: StandInHost, disk: str) -> None:
    """It looks at what lies on a disk: what others put there later it does not know until it looks again."""
    host.probed.pop(disk, None)
    if disk in machines.made:
        host.probed[disk] = machines.made[disk].uuid


def _next_device(host: StandInHost, transport: str) -> str:
    taken = set(host.letters.values())
    if transport == "nvme":
        return next(f"nvme{n}n1" for n in range(1, 10_000) if f"nvme{n}n1" not in taken)
    letters = "abcdefghijklmnopqrstuvwxyz"
    names = (f"sd{one}{other}" for one in ["", *letters] for other in letters)
    return next(name for name in names if name != "sda" and name not in taken)  # it boots from sda


def join(host: StandInHost) -> None:
    """Multipath makes one device of all paths to a disk, unless that is in use already."""
    used = {mount.disk for mount in host.mounts.values()}
    for disk in host.sizes:
        if disk.startswith("0x") and disk not in host.maps and disk not in used:
            host.maps.append(disk)


def map_name(disk: str) -> str:
    """The name of the device over all paths: type 3 of a name, and the name (VPD page 0x83)."""
    return f"3{disk.removeprefix('0x')}"


def lose_power(host: StandInHost) -> None:
    """Nothing is left but what is written down."""
    host.power = False
    host.connected, host.active, host.maps, host.proved = [], [], [], {}
    host.sizes, host.probed, host.letters, host.mounts, host.net = {}, {}, {}, {}, {}


def start(machines: Machines, host: StandInHost) -> None:
    """What a host does when it is given power: its services, what they connect to, and its table of file
    systems.
    """
    host.power, host.active = True, list(host.enabled)
    if "iscsid" in host.active:
        host.connected += [["iscsi", t, at] for t, at, how in host.nodes if how == "automatic"]
    if {"nvme-tcp", "nvmf-autoconnect"} <= set(host.active):
        connect_all(machines, host)
    scan(machines, host)
    for source, at, kind, options in host.table:
        if kind in PROTOCOLS:
            with contextlib.suppress(shares.NotServed):  # it goes on without
                mount_share(machines, host, kind, source, at, options.split(","))
            continue
        disk = disk_named(machines, host, source)
        if not disk or disk not in host.sizes or disk not in machines.made:
            continue
        if not against_mounting(machines, host, disk, set(options.split(","))):
            host.mounts[at] = Mounted(disk, "ro" in options.split(","))


PROTOCOLS = ("nfs", "nfs4", "cifs")  # kinds of file systems that lie on no disk of a host


def mount_share(
    machines: Machines, host: StandInHost, kind: str, source: str, at: str, options: list[str]
) -> None:
    """Mounts a share. Raises shares.NotServed."""
    said = {name: value for name, _, value in (one.partition("=") for one in options) if name}
    for line in host.passwords.get(said.pop("credentials", ""), []):
        name, _, value = line.partition("=")
        said[name.strip()] = value.strip()
    protocol = Protocol.SMB
    if kind != "cifs":
        version = said.get("vers", said.get("nfsvers", "4.1"))
        known = {"3": Protocol.NFS3, "4": Protocol.NFS41, "4.1": Protocol.NFS41, "4.2": Protocol.NFS41}
        if version not in known:
            raise shares.NotServed("an incorrect mount option was specified")
        protocol = known[version]
    host.net[at] = shares.mount(machines, host, source, protocol, said)


def connect_all(machines: Machines, host: StandInHost) -> None:
    """Connects to every subsystem that is offered at the portals it is to ask."""
    for at in host.asks:
        for target in offered(machines, host, at):
            if ["nvme", target, at] not in host.connected:
                host.connected.append(["nvme", target, at])
    scan(machines, host)


def against_mounting(machines: Machines, host: StandInHost, disk: str, options: set[str]) -> str:
    """Why its kernel does not mount the file system on a disk; empty where it does."""
    made = machines.made[disk]
    if made.kind == "gfs2" and "dlm" not in host.active and "lockproto=lock_nolock" not in options:
        return "the lock manager does not run."
    others = (mount.disk for mount in host.mounts.values() if mount.disk != disk)
    twin = any(one in machines.made and machines.made[one].uuid == made.uuid for one in others)
    if made.kind == "xfs" and twin and "nouuid" not in options:
        return "wrong fs type, bad option, bad superblock: Filesystem has duplicate UUID."
    return ""


def disk_named(machines: Machines, host: StandInHost, source: str) -> str:
    """The disk of a device, of a name below /dev/disk/by-id, or of a file system's UUID; empty for none."""
    if source.startswith("UUID="):
        wanted = source.removeprefix("UUID=")
        return next((d for d in host.sizes if host.probed.get(d) == wanted), "")
    for prefix in ("/dev/disk/by-id/wwn-", "/dev/disk/by-id/nvme-"):
        if source.startswith(prefix):
            wanted = source.removeprefix(prefix)
            return wanted if wanted in host.sizes else ""
    if source.startswith("/dev/mapper/"):
        wanted = source.removeprefix("/dev/mapper/")
        return next((disk for disk in host.maps if map_name(disk) == wanted), "")
    wanted = source.removeprefix("/dev/")
    return next((key.split(" ")[0] for key, device in host.letters.items() if device == wanted), "")


# Reporting. ------------------------------------------------------------------------------------------------


def report(machines: Machines, host: StandInHost) -> dict[str, Any]:
    """How a host is (docs/host-protocol.md)."""
    units = ("iscsid", "multipathd", "dlm", "nvme-tcp", "nvmf-autoconnect")
    fabrics: dict[str, list[dict[str, str]]] = {}
    for number, (transport, target, at, _) in enumerate(live(machines, host)):
        address, port = _split(at)
        if transport == "nvme":
            said = {"Name": f"nvme{number}", "Transport": "tcp", "State": "live"}
            fabrics.setdefault(target, []).append(said | {"Address": f"traddr={address},trsvcid={port}"})
    return {
        "protocol": PROTOCOL,
        "services": {unit: "active" if unit in host.active else "inactive" for unit in units},
        "enabled": sorted(host.enabled),
        "initiators": sorted(host.names.values()),
        "ip": [_link(number, nic) for number, nic in enumerate(host.nics, 2)],
        "iscsi": {
            "nodes": [{"target": t, "portal": at, "startup": how} for t, at, how in host.nodes],
        },
        "nvme": {
            "discovery": list(host.asks),
            "subsystems": [{"NQN": nqn, "Paths": paths} for nqn, paths in fabrics.items()],
        },
        "lsblk": {"blockdevices": [_BOOT, *_devices(machines, host)]},
        "fstab": {
            "filesystems": [
                {"source": what, "target": at, "fstype": kind, "options": options}
                for what, at, kind, options in host.table
            ]
        },
        "findmnt": {
            "filesystems": [
                {"target": at, "source": one.source, "fstype": "cifs" if one.protocol == "smb" else "nfs4"}
                for at, one in host.net.items()
            ]
        },
    }


def _link(number: int, nic: Nic) -> dict[str, Any]:
    """A network port as `ip --json addr` prints it."""
    own = [
        {
            "family": "inet6" if ":" in address else "inet",
            "local": address.split("/")[0],
            "prefixlen": int(address.split("/")[1]),
            "scope": "global",
        }
        for address in nic.addresses
    ]
    flags = ["BROADCAST", "MULTICAST", *(["UP", "LOWER_UP"] if nic.up else [])]
    link = {"ifindex": number, "ifname": nic.name, "flags": flags, "link_type": "ether"}
    return link | {"operstate": "UP" if nic.up else "DOWN", "addr_info": own}


_BOOT = {
    "name": "sda",
    "path": "/dev/sda",
    "type": "disk",
    "size": 480 * 10**9,
    "wwn": None,
    "fstype": None,
    "mountpoints": [],
    "children": [{"name": "sda1", "type": "part", "fstype": "ext4", "mountpoints": ["/"]}],
}


def _devices(machines: Machines, host: StandInHost) -> Iterator[dict[str, Any]]:
    for key, name in host.letters.items():
        disk = key.split(" ")[0]
        top = _contents(machines, host, disk)
        device: dict[str, Any] = {"name": name, "path": f"/dev/{name}", "type": "disk", "wwn": disk}
        device["size"] = host.sizes[disk]
        if disk in host.maps:
            path = f"/dev/mapper/{map_name(disk)}"
            child = {"name": map_name(disk), "path": path, "type": "mpath", "size": host.sizes[disk]}
            device |= {"fstype": "mpath_member", "mountpoints": [], "children": [child | top]}
        else:
            device |= top
        yield device


def _contents(machines: Machines, host: StandInHost, disk: str) -> dict[str, Any]:
    """What lies on a disk, and where that is mounted."""
    made = machines.made.get(disk)
    if made is not None and host.probed.get(disk) != made.uuid:
        made = None
    at = [place for place, mount in host.mounts.items() if mount.disk == disk]
    return {
        "fstype": made.kind if made else None,
        "uuid": made.uuid if made else None,
        "fssize": made.bytes if made and at else None,
        "mountpoints": at,
    }
