"""Small sites for core tests, and hypothesis strategies for them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from hypothesis import strategies as st

from foldbarn.core.arrays import Disks
from foldbarn.core.hosts.attachments import Attachment, FileSystem, Target
from foldbarn.core.hosts.initiators import Transport
from foldbarn.core.policies.policy import Policy, Wishes
from foldbarn.core.pools.placement import place
from foldbarn.core.pools.protection import Level, Scheme, mirror
from foldbarn.core.site import (
    Contact,
    Disk,
    Enclosure,
    Host,
    Node,
    Pool,
    Rack,
    Role,
    Room,
    SiteView,
    Volume,
    plain_volume,
)
from foldbarn.core.units import GIB

EXTENT = GIB


def disk_of(slots: int) -> int:
    """Bytes of a disk that holds exactly this many strips of one GiB after its metadata."""
    size = slots * EXTENT * 100 // 99
    while (size - size // 100) // EXTENT < slots:
        size += EXTENT // 1000
    return size


def make_site(
    racks: list[list[list[int]]], copies: int = 2, level: Level = Level.RACK, headroom: Level | None = None
) -> SiteView:
    """A site with one pool over all disks. racks: slots by rack, node and disk."""
    rack_things, nodes, disks = [], [], []
    for r, in_rack in enumerate(racks):
        rack_things.append(Rack(r + 1, f"R{r + 1}", 0))
        for in_node in in_rack:
            node = len(nodes)
            nodes.append(
                Node(node + 1, f"n{node + 1}", r, Contact.HEARD, port_bytes_per_second=3_125_000_000)
            )
            for slots in in_node:
                number = len(disks) + 1
                disks.append(
                    Disk(
                        number,
                        f"n{node + 1}-{number}",
                        str(number),
                        node,
                        "ssd",
                        disk_of(slots),
                        f"S{number}",
                        Role.CAPACITY,
                        0,
                    )
                )
    pool = Pool(1, "p", EXTENT, mirror(copies, level), headroom)
    return SiteView("test", 1, (Room(1, "A"),), tuple(rack_things), tuple(nodes), tuple(disks), (pool,))


def with_volume(
    view: SiteView,
    extents: int,
    copies: int = 2,
    level: Level = Level.RACK,
    number: int = 1,
    scheme: Scheme | None = None,
) -> SiteView:
    """The site with one more volume, placed as the product places it."""
    held = scheme or mirror(copies, level)
    rows = place(
        view.disk_free,
        view.domain_of(held.level),
        view.disk_node,
        extents,
        held.strips,
        seed=number,
        per_domain=held.per_domain,
    )
    volume = plain_volume(number, f"v{number}", 0, extents * held.k * EXTENT, held, view.disk_numbers[rows])
    return changed(view, volumes=(*view.volumes, volume))


@st.composite
def used_sites(draw: st.DrawFn) -> SiteView:
    """Two rooms; volumes of which some keep a policy, some are attached, and some lie in a box that two
    nodes reach; an empty rack, and a node that only leads the way.
    """
    view = make_site(draw(uneven_racks(least=2)), 2)
    for number in range(1, draw(st.integers(1, 4)) + 1):
        if view.disk_free.min() > 1:
            view = with_volume(view, 1, draw(st.integers(1, 2)), Level.NODE, number)
    last = len(view.racks)
    racks = [replace(r, room=draw(st.integers(0, 1))) for r in view.racks] + [Rack(last + 1, "empty", 1)]
    boxed = draw(st.integers(0, len(view.disks) - 1)) if draw(st.booleans()) else None
    disks = [replace(d, enclosure=0) if row == boxed else d for row, d in enumerate(view.disks)]
    policies = tuple(Policy(n, f"p{n}", 1, Wishes(mirror(2, Level.NODE), 1)) for n in (1, 2))
    volumes = [replace(v, policy=draw(st.sampled_from([None, (1, 1), (2, 1)]))) for v in view.volumes]
    hosts = tuple(Host(n, f"h{n}") for n in (1, 2, 3))
    targets = []
    for volume in volumes:
        attached = draw(st.sets(st.integers(1, 3), max_size=2))
        ways = draw(st.sets(st.integers(1, len(view.nodes)), min_size=1, max_size=2))
        if attached:
            mine = tuple(Attachment(host, Transport.ISCSI) for host in sorted(attached))
            targets.append(Target(volume.number, FileSystem.NONE, tuple(sorted(ways)), mine))
    return changed(
        view,
        rooms=(Room(1, "A"), Room(2, "B")),
        racks=tuple(racks),
        disks=tuple(disks),
        enclosures=(Enclosure(1, "box", last),),
        volumes=tuple(volumes),
        policies=policies,
        hosts=hosts,
        targets=tuple(targets),
    )


def changed(view: SiteView, **parts: object) -> SiteView:
    """The site with some parts replaced; what is computed from them is computed anew."""
    kept = {
        name: getattr(view, name)
        for name in (
            "name",
            "revision",
            "rooms",
            "racks",
            "nodes",
            "disks",
            "pools",
            "volumes",
            "incoming",
            "under_way",
            "policies",
            "enclosures",
            "hosts",
            "targets",
        )
    }
    return SiteView(**(kept | parts))  # type: ignore[arg-type]


def without_nodes(view: SiteView, gone: set[int], given_up: bool = True) -> SiteView:
    """The site with some nodes (by row) silent."""
    nodes = tuple(
        Node(n.number, n.name, n.rack, Contact.SILENT, "No answer.", 0.0, given_up, n.port_bytes_per_second)
        if i in gone
        else n
        for i, n in enumerate(view.nodes)
    )
    return changed(view, nodes=nodes)


def moved(view: SiteView, moves: object) -> SiteView:
    """The site after all moves have arrived."""
    volumes = []
    for volume in view.volumes:
        placement = volume.plies[0].placement.copy()
        mine = moves.ply == volume.plies[0].number  # type: ignore[attr-defined]
        placement[moves.extent[mine], moves.strip[mine]] = moves.to[mine]  # type: ignore[attr-defined]
        volumes.append(placed_as(volume, placement))
    return changed(view, volumes=tuple(volumes))


def placed_as(volume: Volume, placement: Disks) -> Volume:
    """A volume of one ply, lying elsewhere."""
    return replace(volume, plies=(replace(volume.plies[0], placement=placement),))


def spread_is_kept(view: SiteView) -> bool:
    """Whether no domain holds more strips of any extent than it may, and no disk two."""
    for ply in view.plies:
        rows = view.rows(ply)
        domains = np.append(view.domain_of(ply.scheme.level), -1)[rows]
        disks = np.where(domains < 0, -1, rows)
        for labels, most in ((domains, ply.scheme.per_domain), (disks, 1)):
            ordered = np.sort(labels, axis=1)
            apart = slice(None, -most) if most < ordered.shape[1] else slice(0)
            if ((ordered[:, most:] == ordered[:, apart]) & (ordered[:, most:] >= 0)).any():
                return False
    return True


@st.composite
def uneven_racks(draw: st.DrawFn, least: int = 2, most: int = 6) -> list[list[list[int]]]:
    """Racks of 1 to 3 nodes of 1 to 4 disks of 1 to 40 slots."""
    disks = st.lists(st.integers(1, 40), min_size=1, max_size=4)
    return draw(st.lists(st.lists(disks, min_size=1, max_size=3), min_size=least, max_size=most))
