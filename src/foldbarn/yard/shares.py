"""The stand-in file service: which node has which address, who has mounted what, and the files that lie
there.

The nodes are one cluster, which decides who has an address: whoever falls silent is missed after
PATIENCE_SECONDS, and what it had goes to others (core.shares.addresses.carriers); it is at home again
some seconds after its node is back. Without a majority nobody has any.
"""

from __future__ import annotations

import ipaddress
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from foldbarn.core.shares.addresses import carriers
from foldbarn.core.shares.mounting import read_source
from foldbarn.core.shares.proofs import proves
from foldbarn.core.shares.rules import Decision, Right, Rule, ready
from foldbarn.core.shares.share import Protocol
from foldbarn.core.units import GIB, MIB
from foldbarn.yard.consumers import workload_of

if TYPE_CHECKING:
    from foldbarn.yard.hosts import StandInHost
    from foldbarn.yard.machines import Machines, Order

PATIENCE_SECONDS = 2.0  # for which a node may be silent before its cluster goes on without it
HOME_AGAIN_SECONDS = 5.0  # that a node is back before its addresses are, lest they go to and fro
NFS_PORT, SMB_PORT = 2049, 445  # IANA
A_FILE = 256 * MIB  # that clients write at a time
WRITTEN_A_DAY = 120 * GIB  # that clients of a share add in a day, at the height of a rush


class NotServed(Exception):
    """Why a client does not get what it asks a file service for, as its own tools would say."""


@dataclass(slots=True)
class FileMount:
    """A share that a host has mounted. share, address: by number, as text; client: its own address there."""

    source: str
    protocol: str
    share: str
    address: str
    client: str
    read_only: bool = False
    user: str = ""


@dataclass(slots=True)
class File:
    bytes: int
    text: str = ""
    owner: str = "root"


@dataclass(slots=True)
class FileService:
    """told: by node, the order by which it knows of the service, and what that said; newest: the node that
    was told last. has: by address (number, as text), the node. able: by node, whether its cluster counts on
    it, and for how many seconds that has been otherwise. trees: files by share and path. due: bytes that
    clients of a share are about to write.
    """

    told: dict[str, dict[str, Any]] = field(default_factory=dict)
    newest: str = ""
    has: dict[str, str] = field(default_factory=dict)
    able: dict[str, tuple[bool, float]] = field(default_factory=dict)
    trees: dict[str, dict[str, File]] = field(default_factory=dict)
    due: dict[str, float] = field(default_factory=dict)
    written: dict[str, int] = field(default_factory=dict)  # files that clients have added by themselves
    # By share and snapshot, what lay there then.
    marked: dict[str, dict[str, dict[str, File]]] = field(default_factory=dict)

    def used(self, share: str) -> int:
        return sum(one.bytes for one in self.trees.get(share, {}).values())


def to_keep(service: FileService) -> dict[str, Any]:
    return {
        "told": service.told,
        "newest": service.newest,
        "has": service.has,
        "trees": {share: _kept(tree) for share, tree in service.trees.items()},
        "marked": {
            share: {number: _kept(tree) for number, tree in trees.items()}
            for share, trees in service.marked.items()
        },
        "written": service.written,
    }


def _kept(tree: dict[str, File]) -> dict[str, list[Any]]:
    return {path: [one.bytes, one.text, one.owner] for path, one in tree.items()}


def from_kept(kept: dict[str, Any]) -> FileService:
    if not kept:
        return FileService()
    return FileService(
        told=kept["told"],
        newest=kept["newest"],
        has=kept["has"],
        trees={share: _tree(tree) for share, tree in kept["trees"].items()},
        marked={
            share: {number: _tree(tree) for number, tree in trees.items()}
            for share, trees in kept["marked"].items()
        },
        written=kept["written"],
    )


def _tree(kept: dict[str, list[Any]]) -> dict[str, File]:
    return {path: File(*one) for path, one in kept.items()}


# What nodes are told, and tell. ----------------------------------------------------------------------------


def take(machines: Machines, order: Order) -> None:
    """A node knows all of the file service from here on: its addresses, and its shares."""
    service, body = machines.files, order.body
    service.told[order.node] = {
        "order": order.id,
        "addresses": body["addresses"],
        "shares": body["shares"],
    }
    service.newest = order.node
    know_volumes(machines)
    known = {share for told in service.told.values() for share in told["shares"]}
    for gone in service.trees.keys() - known:
        if not _kept_somewhere(machines, gone):
            del service.trees[gone]
            service.marked.pop(gone, None)


def _kept_somewhere(machines: Machines, share: str) -> bool:
    """Whether the volume of a share that nobody serves may come back: its strips are there."""
    plies = machines.share_plies.get(share, [])
    return any(machines.strips_of(ply) for ply in plies)


def tells(machines: Machines, node: str) -> dict[str, Any]:
    """What a node tells of the file service."""
    service = machines.files
    mine = {int(number) for number in carried(machines, node)}
    shares = _served(machines, node)
    mounts = sorted(
        [int(mount.share), mount.client, mount.protocol, mount.read_only, mount.user]
        for _, mount in mounts_of(machines)
        if mount.share in shares and int(mount.address) in mine
    )
    return {
        "order": service.told.get(node, {}).get("order", ""),
        "carries": sorted(mine),
        "mounts": [list(one) for one in {tuple(one): None for one in mounts}],
        "used": {share: service.used(share) for share in shares},
        "refuses": sorted(int(s) for s, said in shares.items() if service.used(s) >= said["quota"]),
    }


def carried(machines: Machines, node: str) -> list[str]:
    """The addresses that a node has now."""
    return [number for number, has in machines.files.has.items() if has == node]


def _served(machines: Machines, node: str) -> dict[str, dict[str, Any]]:
    """The shares that a node serves, as it was told of them."""
    mine = {int(number) for number in carried(machines, node)}
    told = machines.files.told.get(node, {}).get("shares", {})
    return {share: said for share, said in told.items() if said["address"] in mine}


def mounts_of(machines: Machines) -> Iterator[tuple[StandInHost, FileMount]]:
    for host in machines.hosts.values():
        for mount in host.net.values():
            yield host, mount


# Who has which address. ------------------------------------------------------------------------------------


def decide(machines: Machines, seconds: float, *, decides: bool) -> None:
    """The cluster looks, so many seconds of our own time after it last did, who can have an address. decides:
    whether more than half of its votes can be cast.
    """
    service = machines.files
    if not service.told:
        return
    members = machines.council.members
    for node in members:
        now = machines.power[node]
        able, otherwise = service.able.get(node, (now, 0.0))
        otherwise = 0.0 if able == now else otherwise + seconds
        if otherwise >= (PATIENCE_SECONDS if able else HOME_AGAIN_SECONDS):
            able, otherwise = now, 0.0
        service.able[node] = able, otherwise
    for gone in service.able.keys() - set(members):
        del service.able[gone]
    if not decides:
        service.has = {}
        return
    newest = service.told.get(service.newest, {}).get("addresses", {})
    knows = {node for node, told in service.told.items() if told["addresses"]}
    homes = [(int(number), said["home"]) for number, said in newest.items()]
    could = [node for node in members if service.able[node][0] and node in knows]
    service.has = {str(number): node for number, node in carriers(homes, could).items()}


# What clients do. ------------------------------------------------------------------------------------------


def resolve(machines: Machines, server: str) -> list[str]:
    """The addresses that a client finds for a name, or the one that it names. Raises NotServed."""
    try:
        return [str(ipaddress.ip_address(server))]
    except ValueError:
        pass
    names = machines.names
    if names.how in ("silent", "refuses", "garbled"):
        raise NotServed(f"Failed to resolve server {server}: Temporary failure in name resolution")
    found = [*names.values(f"{server}.", "A"), *names.values(f"{server}.", "AAAA")]
    if not found:
        raise NotServed(f"Failed to resolve server {server}: Name or service not known")
    return found


def own_address(host: StandInHost, server: str) -> str:
    """By which of its addresses a host reaches another; empty for by none."""
    to = ipaddress.ip_address(server)
    for nic in host.nics:
        for own in nic.addresses if nic.up else ():
            mine = ipaddress.ip_interface(own)
            if mine.version == to.version and to in mine.network:
                return str(mine.ip)
    return ""


def _number_at(machines: Machines, address: str) -> str:
    """Of the address of the file service, whoever has it; empty for what is none."""
    wanted = ipaddress.ip_address(address)
    for told in machines.files.told.values():
        for number, said in told["addresses"].items():
            if any(ipaddress.ip_address(one) == wanted for one in said["at"]):
                return str(number)
    return ""


def node_with(machines: Machines, number: str, port: int) -> str:
    """The node that answers at an address of the file service. Raises NotServed where none does."""
    node = machines.files.has.get(number, "")
    if not node or not machines.power[node] or (node, port) in machines.shut:
        raise NotServed("server not responding")
    return node


def served(machines: Machines, mount: FileMount) -> tuple[dict[str, Any], Decision]:
    """A share as the node knows it that has its address now, and what who has it mounted may do there. Raises
    NotServed.
    """
    protocol = Protocol(mount.protocol)
    node = node_with(machines, mount.address, SMB_PORT if protocol is Protocol.SMB else NFS_PORT)
    said = _served(machines, node).get(mount.share)
    if said is None or mount.protocol not in said["protocols"]:
        raise NotServed("Stale file handle")
    if any(ply in held for held in machines.withheld.values() for ply in said["plies"]):
        raise NotServed("server not responding, still trying")
    found = ready(tuple(Rule(who, Right(right), root) for who, right, root in said["rules"]))
    decision = found.decide(mount.client)
    if decision.right is Right.NONE:
        raise NotServed("Permission denied")
    if protocol is Protocol.SMB:
        user = said["users"].get(mount.user)
        if user is None:
            raise NotServed("Permission denied")
        if Right(user[0]) is Right.READ:
            decision = Decision(Right.READ, decision.root, decision.rule)
    return said, decision


def mount(
    machines: Machines, host: StandInHost, source: str, protocol: Protocol, options: dict[str, str]
) -> FileMount:
    """What a host has mounted then. Raises NotServed."""
    server, name = read_source(source)
    if not server or not name:
        raise NotServed(f"{source} is no share")
    addresses = resolve(machines, options.get("ip", server))
    why = "No route to host"
    for address in addresses:
        client, number = own_address(host, address), _number_at(machines, address)
        if not client or not number:
            continue
        if not machines.files.has.get(number):
            why = "server not responding"
            continue  # it may answer at another of its addresses
        return _mount_at(machines, FileMount(source, protocol.value, "", number, client), name, options)
    raise NotServed(why)


def _mount_at(machines: Machines, wanted: FileMount, name: str, options: dict[str, str]) -> FileMount:
    smb = wanted.protocol == Protocol.SMB.value
    node = node_with(machines, wanted.address, SMB_PORT if smb else NFS_PORT)
    known = {said["name"]: share for share, said in _served(machines, node).items()}
    if name not in known:
        raise NotServed(f"access denied by server while mounting {wanted.source}")
    wanted.share, wanted.user = known[name], options.get("username", "").lower() if smb else ""
    told = machines.files.told[node]["shares"][wanted.share]
    if wanted.protocol not in told["protocols"]:
        raise NotServed("requested protocol is not supported by server")
    if smb:
        proof = told["users"].get(wanted.user, ["", ""])[1]
        if not proves(proof, options.get("password", "")):
            raise NotServed("mount error(13): Permission denied")
    try:
        _, decision = served(machines, wanted)
    except NotServed as error:
        if str(error) == "Permission denied":
            raise NotServed(f"access denied by server while mounting {wanted.source}") from error
        raise
    wanted.read_only = "ro" in options or decision.right is Right.READ
    return wanted


def files_at(machines: Machines, host: StandInHost, path: str) -> tuple[FileMount, str] | None:
    """The share below which a path lies on a host, and the path within it; None where none does."""
    for at, mount in host.net.items():
        if path == at or path.startswith(f"{at}/"):
            return mount, path[len(at) :].strip("/")
    return None


def read(machines: Machines, mount: FileMount) -> dict[str, File]:
    """The files of a share, by path. Raises NotServed."""
    served(machines, mount)
    return machines.files.trees.get(mount.share, {})


def write(machines: Machines, mount: FileMount, path: str, size: int, text: str = "") -> None:
    """A file of so many bytes, in place of one that was there. Raises NotServed; what finds no room is there
    as far as it came.
    """
    said, decision = served(machines, mount)
    if mount.read_only or decision.right is not Right.WRITE:
        raise NotServed("Read-only file system")
    tree = machines.files.trees.setdefault(mount.share, {})
    tree.pop(path, None)
    left = max(said["quota"] - machines.files.used(mount.share), 0)
    owner = mount.user or ("root" if decision.root else "nobody")
    tree[path] = File(min(size, left), text if size <= left else "", owner)
    if size > left:
        raise NotServed("Disk quota exceeded")


def remove(machines: Machines, mount: FileMount, path: str) -> None:
    """Raises NotServed."""
    _, decision = served(machines, mount)
    if mount.read_only or decision.right is not Right.WRITE:
        raise NotServed("Read-only file system")
    if machines.files.trees.get(mount.share, {}).pop(path, None) is None:
        raise NotServed("No such file or directory")


def grow(machines: Machines, seconds: float) -> None:
    """Clients that have mounted a share to write add to it, a file at a time, for as long as it takes them;
    so much in all, however many they are.
    """
    if not machines.consumers:
        return
    service = machines.files
    writing: dict[str, FileMount] = {}
    for _, one in mounts_of(machines):
        if not one.read_only:
            writing.setdefault(one.share, one)
    for share, one in writing.items():
        height = workload_of(int(share)).height(machines.clock) * machines.consumers
        service.due[share] = service.due.get(share, 0.0) + WRITTEN_A_DAY / 86_400 * height * seconds
        files = int(service.due[share] // A_FILE)
        if not files:
            continue
        service.due[share] -= files * A_FILE
        count = service.written.get(share, 0)
        try:
            # As one file: what is of interest is what it takes.
            write(machines, one, f"day-{count + 1}", files * A_FILE)
        except NotServed:
            continue
        service.written[share] = count + 1


def written_part(machines: Machines, first: int) -> float | None:
    """Part of a volume that its files take, by the ply that its data was first written to; None for a volume
    that holds no share.
    """
    share = machines.share_on.get(first)
    if share is None:
        return None
    used, size = machines.files.used(share[0]), max(share[1], 1)
    return min(used / size, 1.0)


def unused(machines: Machines) -> set[int]:
    """By the ply that their data was first written to: volumes of shares that nobody has mounted."""
    if not machines.share_on:
        return set()
    mounted = Counter(one.share for _, one in mounts_of(machines))
    return {first for first, (share, _) in machines.share_on.items() if not mounted[share]}


def know_volumes(machines: Machines) -> None:
    """On which plies shares lie, by what nodes were told last."""
    for told in machines.files.told.values():
        for share, said in told["shares"].items():
            machines.share_plies[share] = list(said["plies"])
            for ply in said["plies"]:
                first = machines.facts_of(ply).first
                if str(ply) not in machines.landings and ply not in machines.pasts:
                    machines.share_on[first] = (share, int(said["bytes"]))


def mark(machines: Machines, first: int, number: int) -> None:
    """A snapshot of a volume, by the ply that it was first written to, has what lies there now."""
    share = machines.share_on.get(first)
    if share is not None:
        tree = {path: replace(one) for path, one in machines.files.trees.get(share[0], {}).items()}
        machines.files.marked.setdefault(share[0], {})[str(number)] = tree


def bring_back(machines: Machines, first: int, number: int) -> None:
    """What lay there at a snapshot lies there again."""
    share = machines.share_on.get(first)
    if share is None:
        return
    then = machines.files.marked.get(share[0], {}).get(str(number))
    if then is not None:
        machines.files.trees[share[0]] = {path: replace(one) for path, one in then.items()}
