"""What hangs together, both ways: which hosts, volumes and pools depend on a disk, a node or a room, and on
which of these a volume or a host depends.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import cast

import numpy as np

from foldbarn.core.arrays import Disks, Flags, Ints
from foldbarn.core.claims.kept import KeptClaim
from foldbarn.core.claims.reclaiming import Life
from foldbarn.core.errors import NotFound
from foldbarn.core.names import folded
from foldbarn.core.policies.policy import Policy
from foldbarn.core.shares.belonging import mounts_of
from foldbarn.core.shares.share import Share
from foldbarn.core.site import Disk, Host, Node, Pool, Rack, Room, SiteView, Vm, Volume
from foldbarn.core.volumes.snapshots import Origin


class Link(StrEnum):
    """Kinds of things in the chain, from what uses to what bears."""

    CLAIM = "claim"  # by namespace and name
    HOST = "host"
    VM = "vm"
    SHARE = "share"
    VOLUME = "volume"
    POLICY = "policy"
    POOL = "pool"
    DISK = "disk"
    NODE = "node"
    RACK = "rack"
    ROOM = "room"


@dataclass(frozen=True, slots=True)
class Lineage:
    """A thing, under its own name, with all that depends on it and all that it depends on: names by kind, in
    the order in which things are listed, itself among its own kind.
    """

    link: Link
    name: str
    kin: Mapping[Link, tuple[str, ...]]


def volumes_of(view: SiteView, link: Link, name: str) -> Flags:
    """Which volumes, in the bin or not, depend on a thing, [volumes]: lie on it, in it or keep it; of a host,
    those that are attached to it. Raises NotFound.
    """
    row = _row(view, link, name)
    match link:
        case Link.VOLUME:
            return _only(row, len(view.volumes))
        case Link.CLAIM:
            mine = _claims(view)[row].volume
            return _flags(view, (v.number == mine for v in view.volumes))
        case Link.HOST:
            number = view.hosts[row].number
            return _flags(view, (number in _hosts_of(view, v) for v in view.volumes))
        case Link.VM:
            vm = view.vms[row].number
            return _flags(view, (v.part is not None and v.part.vm == vm for v in view.volumes))
        case Link.SHARE:
            mine = view.shares[row].volume
            return _flags(view, (v.number == mine for v in view.volumes))
        case Link.POLICY:
            policy = view.current_policies[row].number
            return _flags(view, (v.policy is not None and v.policy[0] == policy for v in view.volumes))
        case Link.POOL:
            return _flags(view, (v.pool == row for v in view.volumes))
        case _:
            return _lying_on(view, _disks_of(view, link, row))


def lineage_of(view: SiteView, link: Link, name: str) -> Lineage:
    """Raises NotFound."""
    row = _row(view, link, name)
    volumes = np.flatnonzero(volumes_of(view, link, name))
    chosen = [view.volumes[v] for v in volumes.tolist()]
    above = link in (Link.CLAIM, Link.HOST, Link.VM, Link.SHARE, Link.VOLUME, Link.POLICY)
    disks = np.flatnonzero(_holding(view, chosen) if above else _disks_of(view, link, row))
    hosts = {number for v in chosen for number in _hosts_of(view, v)}
    # Whatever lies there: nodes without disks, and those by which a host reaches its volumes.
    stand = _standing(view, link, row)
    if link == Link.HOST:
        own = (t for t in view.targets if t.attachment(view.hosts[row].number) is not None)
        numbers = {number for target in own for number in target.gateways}
        stand = {n for n, node in enumerate(view.nodes) if node.number in numbers}
    elif stand:
        hosts |= _served_by(view, {view.nodes[n].number for n in stand})
    hosts |= _mounting(view, {v.number for v in chosen})
    racks = {view.nodes[n].rack for n in stand} | set(view.disk_rack[disks].tolist())
    racks |= {
        r for r, rack in enumerate(view.racks) if (link, row) in ((Link.RACK, r), (Link.ROOM, rack.room))
    }
    numbers_of = {v.number for v in chosen}
    rows: dict[Link, set[int]] = {
        Link.CLAIM: {c for c, kept in enumerate(_claims(view)) if kept.volume in numbers_of},
        Link.HOST: {h for h, host in enumerate(view.hosts) if host.number in hosts},
        Link.VM: _parts_in(view, chosen),
        Link.SHARE: {s for s, share in enumerate(view.shares) if share.volume in numbers_of},
        Link.VOLUME: set(volumes.tolist()),
        Link.POLICY: _kept_by(view, chosen),
        Link.POOL: {v.pool for v in chosen} | ({view.disks[d].pool for d in disks.tolist()} - {-1}),
        Link.DISK: set(disks.tolist()),
        Link.NODE: stand | set(view.disk_node[disks].tolist()),
        Link.RACK: racks,
        Link.ROOM: {view.racks[r].room for r in racks},
    }
    rows[link] = {row}
    named = {kind: tuple(_things(view, kind)[r].name for r in sorted(found)) for kind, found in rows.items()}
    return Lineage(link, named[link][0], named)


def _things(
    view: SiteView, link: Link
) -> Sequence[KeptClaim | Host | Vm | Share | Volume | Policy | Pool | Disk | Node | Rack | Room]:
    """All of a kind, in the order in which they are listed."""
    match link:
        case Link.CLAIM:
            return _claims(view)
        case Link.HOST:
            return view.hosts
        case Link.VM:
            return view.vms
        case Link.SHARE:
            return view.shares
        case Link.VOLUME:
            return view.volumes
        case Link.POLICY:
            return view.current_policies
        case Link.POOL:
            return view.pools
        case Link.DISK:
            return view.disks
        case Link.NODE:
            return view.nodes
        case Link.RACK:
            return view.racks
        case Link.ROOM:
            return view.rooms


def _claims(view: SiteView) -> list[KeptClaim]:
    """Those of which not all is over."""
    return [kept for kept in view.claims if kept.life is not Life.OVER]


def _row(view: SiteView, link: Link, name: str) -> int:
    """Raises NotFound."""
    wanted = folded(name)
    for row, thing in enumerate(_things(view, link)):
        if folded(thing.name) == wanted:
            return row
    raise NotFound(f"There is no {link} named '{name}'.", about=link.value)


def _flags(view: SiteView, said: Iterable[bool]) -> Flags:
    return np.fromiter(said, dtype=np.bool_, count=len(view.volumes))


def _hosts_of(view: SiteView, volume: Volume) -> list[int]:
    """Numbers of the hosts that a volume is attached to."""
    target = view.target_of(volume.number)
    return [] if target is None else [one.host for one in target.attachments]


def _served_by(view: SiteView, nodes: set[int]) -> set[int]:
    """Numbers of the hosts that reach a volume through one of these nodes (by number)."""
    served = (target for target in view.targets if nodes & set(target.gateways))
    return {one.host for target in served for one in target.attachments}


def _mounting(view: SiteView, volumes: set[int]) -> set[int]:
    """Numbers of the hosts that have shares mounted which lie on these volumes (by number)."""
    mounted = {one.host for share in view.shares if share.volume in volumes for one in mounts_of(view, share)}
    return {host.number for host in view.hosts if host.name in mounted}


def _kept_by(view: SiteView, volumes: Iterable[Volume]) -> set[int]:
    """Rows of the policies that some volumes keep."""
    kept = {v.policy[0] for v in volumes if v.policy is not None}
    return {row for row, policy in enumerate(view.current_policies) if policy.number in kept}


def _parts_in(view: SiteView, volumes: Iterable[Volume]) -> set[int]:
    """Rows of the virtual machines that some volumes are part of."""
    mine = {v.part.vm for v in volumes if v.part is not None}
    return {row for row, vm in enumerate(view.vms) if vm.number in mine}


def _standing(view: SiteView, link: Link, row: int) -> set[int]:
    """Rows of the nodes that a place is, or has in it; none for what is no place."""
    match link:
        case Link.NODE:
            return {row}
        case Link.RACK:
            return {n for n, node in enumerate(view.nodes) if node.rack == row}
        case Link.ROOM:
            return {n for n, node in enumerate(view.nodes) if view.racks[node.rack].room == row}
        case _:
            return set()


def _only(row: int, count: int) -> Flags:
    found = np.zeros(count, dtype=np.bool_)
    found[row] = True
    return found


def _disks_of(view: SiteView, link: Link, row: int) -> Flags:
    """Disks in a pool, a node, a rack or a room, or the one; [disks]."""
    if link == Link.DISK:
        return _only(row, len(view.disks))
    of: dict[Link, Callable[[], Ints]] = {
        Link.POOL: lambda: np.array([d.pool for d in view.disks], dtype=np.int64),
        Link.NODE: lambda: view.disk_node,
        Link.RACK: lambda: view.disk_rack,
        Link.ROOM: lambda: view.disk_room,
    }
    flags: Flags = of[link]() == row
    return flags


def _holding(view: SiteView, volumes: Iterable[Volume]) -> Flags:
    """Disks where strips of some volumes lie, or of what they read from; [disks]."""
    held = np.zeros(len(view.disks) + 1, dtype=np.bool_)
    chosen = list(volumes)
    chosen += [view.volume_numbered(v.origin.volume) for v in chosen if v.origin is not None]
    for volume in chosen:
        for ply in volume.every_ply:
            held[view.row_of_number[ply.disk_numbers]] = True
    return held[:-1]


def _lying(view: SiteView) -> tuple[Ints, Disks]:
    """Which volume lies on which disk: rows of the volume and of the disk, each pair once for each ply."""
    kept = view.findings.get("lying")
    if kept is None:
        owners, numbers = view.columns.together(_disk_numbers)
        kept = view.findings["lying"] = owners, view.row_of_number[numbers]
    return cast("tuple[Ints, Disks]", kept)


def _disk_numbers(volume: Volume) -> Disks:
    return np.concatenate([ply.disk_numbers for ply in volume.every_ply])


def _reads(volume: Volume) -> bool:
    return volume.origin is not None


def _lying_on(view: SiteView, disks: Flags) -> Flags:
    """Volumes with strips on any of some disks, and those that read from one of these, [volumes]."""
    owners, rows = _lying(view)
    there = np.append(disks, False)[rows]
    found: Flags = np.bincount(owners[there], minlength=len(view.volumes)) > 0
    read = np.flatnonzero(view.columns.of(_reads, np.bool_)).tolist()
    if read:
        readers = [(row, cast(Origin, view.volumes[row].origin).volume) for row in read]
        own = {view.volumes[row].number for row in np.flatnonzero(found).tolist()}
        found[[row for row, origin in readers if origin in own]] = True
    return found
