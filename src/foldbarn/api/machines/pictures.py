"""Machines, as a page shows them."""

from __future__ import annotations

from collections.abc import Sequence

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.machines.models import (
    DiskFacts,
    DiskOut,
    DiskPage,
    EnclosureFacts,
    EnteredCluster,
    FactOut,
    HeldOut,
    MachinesOut,
    NodeFacts,
    NodeOut,
    PortFacts,
    RackOut,
    RoomOut,
    TextOut,
)
from foldbarn.changes.text import SiteText
from foldbarn.core.machines.health import Health
from foldbarn.core.site import AWAY, Contact, Disk, Role, SiteView
from foldbarn.core.volumes.disk_loss import disk_loss, disk_loss_sentence
from foldbarn.core.watch.lamps import Outlook
from foldbarn.store.tables import ChangeRow


def disk_out(outlook: Outlook, disk: Disk) -> DiskOut:
    view = outlook.view
    pool = view.pools[disk.pool] if disk.pool >= 0 else None
    used = int(view.disk_used[view.row_of_number[disk.number]])
    return DiskOut(
        name=disk.name,
        bay=disk.bay,
        media=disk.media,
        size_bytes=disk.size_bytes,
        used_bytes=used * pool.strip_bytes if pool else 0,
        role=disk.role.value,
        pool=pool.name if pool else None,
        serial=disk.serial,
        state=StateOut.of(outlook.disk(disk)),
        fit=view.is_fit(disk),
        reasons=disk.why,
        tier=disk.tier.value,
        retiring=disk.retiring,
    )


def node_out(outlook: Outlook, row: int, disks: list[Disk]) -> NodeOut:
    view = outlook.view
    node = view.nodes[row]
    rack = view.racks[node.rack]
    pools: dict[str, list[int]] = {}
    for disk in disks:
        if disk.pool >= 0 and disk.role == Role.CAPACITY:
            pool = view.pools[disk.pool]
            sums = pools.setdefault(pool.name, [0, 0])
            sums[0] += int(view.disk_used[view.row_of_number[disk.number]]) * pool.strip_bytes
            sums[1] += disk.size_bytes
    notes = [f"{name} {used / size:.0%}" for name, (used, size) in pools.items()]
    return NodeOut(
        name=node.name,
        rack=rack.name,
        room=view.rooms[rack.room].name,
        state=StateOut.of(outlook.node(node)),
        worst=outlook.node_with_disks(row).lamp,
        note=", ".join(notes) or "in no pool",
        pools=list(pools),
        disks=[disk_out(outlook, d) for d in disks],
    )


def rooms_out(outlook: Outlook) -> list[RoomOut]:
    """The site room by room. Kept with the picture of the site, unless something in it tells how long ago
    it was.
    """
    view = outlook.view
    waiting = any(n.contact in AWAY for n in view.nodes) or not all(d.present for d in view.disks)
    kept = None if waiting else view.findings.get("rooms")
    if not isinstance(kept, list):
        kept = view.findings["rooms"] = _rooms(outlook)
    return kept


def _rooms(outlook: Outlook) -> list[RoomOut]:
    view = outlook.view
    racks: list[list[NodeOut]] = [[] for _ in view.racks]
    for row, node in enumerate(view.nodes):
        racks[node.rack].append(node_out(outlook, row, view.node_disks[row]))
    rooms: list[list[RackOut]] = [[] for _ in view.rooms]
    for rack, nodes in zip(view.racks, racks, strict=True):
        rooms[rack.room].append(RackOut(name=rack.name, nodes=nodes))
    return [RoomOut(name=room.name, racks=inside) for room, inside in zip(view.rooms, rooms, strict=True)]


def disk_page(view: SiteView, disk: Disk, health: Health, history: Sequence[ChangeRow]) -> DiskPage:
    loss = disk_loss(view, disk)
    strip_bytes = view.pools[disk.pool].strip_bytes if disk.pool >= 0 else 0
    grade, why = health.grade()
    return DiskPage(
        name=disk.name,
        grade=grade,
        why=why,
        health=[FactOut(what=what, said=said) for what, said in health.facts()],
        held=[
            HeldOut(
                volume=held.volume,
                strips=held.strips,
                bytes=held.strips * strip_bytes,
                unreadable=held.unreadable,
                bare=held.bare,
            )
            for held in loss.held
        ],
        loss=disk_loss_sentence(loss, strip_bytes),
        history=[change_line(row) for row in history],
    )


def machines_out(outlook: Outlook) -> MachinesOut:
    """Everything known of nodes and disks, in the view's order."""
    view = outlook.view
    nodes = [
        NodeFacts(
            name=n.name,
            room=view.rooms[view.racks[n.rack].room].name,
            rack=view.racks[n.rack].name,
            state=StateOut.of(outlook.node(n)),
            contact=n.contact.value,
            awaited_back=n.contact in AWAY and not n.given_up,
            cores=n.cores,
            memory_bytes=n.memory_bytes,
            clock_offset=n.clock_offset,
            member=n.member,
            keeper=n.keeper,
            dedicated=n.dedicated,
            agent_name=n.agent_name,
            agent_url=n.agent_url,
            disks=len(view.node_disks[i]),
            fit=sum(map(view.is_fit, view.node_disks[i])),
            ports=[
                PortFacts(
                    name=p.name,
                    purpose=p.purpose,
                    up=p.up,
                    bytes_per_second=p.bytes_per_second,
                    mtu=p.mtu,
                    addresses=list(p.addresses),
                    neighbour=p.neighbour,
                )
                for p in n.ports
            ],
        )
        for i, n in enumerate(view.nodes)
    ]
    names = [n.name for n in view.nodes]
    disks = [
        DiskFacts(
            name=d.name,
            node=names[d.node],
            room=nodes[d.node].room,
            rack=nodes[d.node].rack,
            bay=d.bay,
            media=d.media,
            model=d.model,
            size_bytes=d.size_bytes,
            role=d.role.value,
            pool=view.pools[d.pool].name if d.pool >= 0 else None,
            serial=d.serial,
            wwn=d.wwn,
            paths=list(d.paths),
            missing_paths=list(d.missing_paths),
            enclosure=view.enclosures[d.enclosure].name if d.enclosure >= 0 else None,
            used_bytes=int(view.disk_used[i]) * view.pools[d.pool].strip_bytes if d.pool >= 0 else 0,
            lamp=state.lamp,
            state=state.reason,
            reasons=d.why,
            clearable=d.clearable and nodes[d.node].contact == Contact.HEARD,
            lit=d.lit,
            bus=d.bus,
            retiring=d.retiring,
            role_reason=d.role_reason,
            rated_bytes=d.rated_bytes,
        )
        for i, d in enumerate(view.disks)
        for state in [outlook.disk(d)]
    ]
    boxes = [
        EnclosureFacts(name=e.name, rack=view.racks[e.rack].name, nodes=list(e.nodes))
        for e in view.enclosures
    ]
    return MachinesOut(nodes=nodes, disks=disks, enclosures=boxes)


def text_out(text: str, taken: str, entered: SiteText | None) -> TextOut:
    """The site's text, and what was entered of the cluster."""
    cluster = entered.cluster if entered else None
    dedicated = (
        [n.name for r in entered.rooms for k in r.racks for n in k.nodes if n.dedicated] if entered else []
    )
    return TextOut(
        text=text,
        taken=taken,
        cluster=EnteredCluster(
            name=cluster.name,
            keepers=cluster.keepers,
            service_address=cluster.service_address,
            witness_url=cluster.witness.address if cluster.witness else "",
            dedicated=dedicated,
        )
        if cluster
        else None,
    )
