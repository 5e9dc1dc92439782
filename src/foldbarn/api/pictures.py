"""Shapes an Outlook into what the API says."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np

from foldbarn.api.models import (
    AttentionOut,
    BarnOut,
    ChangeOut,
    ChangePage,
    ClusterOut,
    ClusterPage,
    Counts,
    DiskFacts,
    DiskOut,
    EnclosureFacts,
    EnteredCluster,
    ExtentOut,
    FateOut,
    MachinesOut,
    NodeFacts,
    NodeOut,
    OpeningOut,
    OtherChange,
    PortFacts,
    RackOut,
    ReachOut,
    RecordOut,
    RoomOut,
    ShutOut,
    StageOut,
    StateOut,
    StepOut,
    StripOut,
    TextOut,
    VolumeOut,
    VolumePage,
    WhatIf,
)
from foldbarn.api.pool_pictures import pool_out
from foldbarn.changes.engine.effects import CheckRow, LedgerOut, LossRow
from foldbarn.changes.engine.step import moves_strips
from foldbarn.changes.text import SiteText
from foldbarn.core.arrays import Flags
from foldbarn.core.cluster.forming import network_findings, reach_matrix, voters, wish_of
from foldbarn.core.cluster.quorum import domain_losses, doubts, vote_sentence
from foldbarn.core.errors import NotFound
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.machines.network import PORT_PLAN
from foldbarn.core.pools.capacity import free_figure, site_ledgers
from foldbarn.core.site import AWAY, Contact, Disk, Ply, Role, SiteView, Volume
from foldbarn.core.units import say_count
from foldbarn.core.volumes.loss import fate, present_strips, without
from foldbarn.core.watch.lamps import Lamp, Outlook, worst
from foldbarn.core.watch.stages import stages
from foldbarn.services.changes import again_at
from foldbarn.services.house import Restart
from foldbarn.store.tables import ChangeRow, DutyRow, RecordRow, SiteRow, StepRow, VolumeRow

MOST_MISSING = 2000  # notches drawn on one copy's line


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
        fit=disk.role == Role.UNCLAIMED,
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
            fit=sum(d.role == Role.UNCLAIMED for d in view.node_disks[i]),
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


def cluster_out(view: SiteView) -> ClusterPage:
    """The cluster as it stands, and what every member can reach; before it is formed, what one of all nodes
    would meet.
    """
    cluster = view.cluster
    members = [n.name for n in view.nodes if n.member] or [
        n.name for n in view.nodes if n.contact == Contact.HEARD
    ]
    wish = wish_of(view) if cluster and any(n.member for n in view.nodes) else None
    names = {n.agent_name: n.name for n in view.nodes}
    return ClusterPage(
        cluster=ClusterOut(
            name=cluster.name,
            service_address=cluster.service_address,
            witness=cluster.witness,
            witness_room=cluster.witness_room,
            witness_rack=cluster.witness_rack,
            encrypted=cluster.encrypted,
            forming=cluster.forming,
            leader=names.get(cluster.leader, cluster.leader),
            term=cluster.term,
            mail_to=cluster.mail_to,
            witness_silent=cluster.witness_silent,
            witness_reason=cluster.witness_reason,
            keepers=[n.name for n in view.nodes if n.keeper],
            members=[n.name for n in view.nodes if n.member],
        )
        if cluster
        else None,
        votes=f"{vote_sentence(voters(view, wish)).capitalize()}." if wish and wish.keepers else "",
        doubts=[f"{s[0].upper()}{s[1:]}." for s in doubts(voters(view, wish))] if wish else [],
        losses=[LossRow.model_validate(e, from_attributes=True) for e in domain_losses(voters(view, wish))]
        if wish
        else [],
        findings=[
            CheckRow(name="network", result=f.weight, sentence=f.sentence, cure=f.cure, about=f.node)
            for f in network_findings(view, members)
        ],
        members=members,
        reach=[
            ReachOut(source=r.source, target=r.target, reached=r.reached, of=r.of, why=r.why)
            for r in reach_matrix(view, members)
        ],
        port_plan=[
            OpeningOut(
                name=o.name,
                source=o.source,
                target=o.target,
                protocol=o.protocol,
                ports=o.ports,
                why=o.why,
                purpose=o.purpose,
                tested=o.tested,
            )
            for o in PORT_PLAN
        ],
        shut=[ShutOut(source=a, target=b, port=p, why=w) for a, b, p, w in view.closed_ports],
        ports_tested_at=view.ports_tested_at or None,
    )


def _volume_fields(outlook: Outlook, row: int) -> dict[str, object]:
    view = outlook.view
    volume, found = view.volumes[row], outlook.fates[row]
    ply = volume.plies[0]  # a volume has one until policies give it more
    footprint = make_figure(
        f"{volume.name} on disks",
        "bytes",
        [
            Part("+", "extents", volume.extents, "count"),
            Part("×", "bytes of a strip", view.pools[volume.pool].strip_bytes, "bytes"),
            Part("×", "copies", ply.scheme.strips, "count"),
        ],
        "Room is set aside when the volume is made. Copies that are missing now are counted too.",
    )
    return {
        "name": volume.name,
        "pool": view.pools[volume.pool].name,
        "size_bytes": volume.size_bytes,
        "copies": ply.scheme.strips,
        "level": ply.scheme.level.value,
        "protection": ply.scheme.sentence(),
        "survives": ply.scheme.survives,
        "tier": ply.tier.value,
        "written_bytes": volume.written_bytes,
        "extents": volume.extents,
        "extent_bytes": view.data_bytes(ply),
        "forming": volume.forming,
        "state": StateOut.of(outlook.volume(row)),
        "data": found.state,
        "footprint": footprint,
        "fate": FateOut(
            whole=found.whole,
            reduced=found.reduced,
            bare=found.bare,
            unavailable=found.unavailable,
            lost=found.lost,
        ),
    }


def volume_out(outlook: Outlook, row: int) -> VolumeOut:
    return VolumeOut.model_validate(_volume_fields(outlook, row))


def _row_of(view: SiteView, volume: Volume) -> int:
    return next(i for i, v in enumerate(view.volumes) if v is volume)


def volume_page(outlook: Outlook, name: str, stored: VolumeRow | None) -> VolumePage:
    """Raises NotFound."""
    view = outlook.view
    volume = view.volume(name)
    row = _row_of(view, volume)
    ply, strip_bytes = volume.plies[0], view.pools[volume.pool].strip_bytes
    held = np.bincount(view.rows(ply).reshape(-1), minlength=len(view.disks) + 1)[:-1]
    missing = ~present_strips(view, ply)
    level = ply.scheme.level
    domain_of = np.append(view.domain_of(level), -1)[view.rows(ply)]
    readable = np.where(missing, -1, domain_of)  # a strip that is away already is not lost once more
    names = view.domain_names(level)
    return VolumePage.model_validate(
        _volume_fields(outlook, row)
        | {
            "shares": {view.disks[r].name: int(held[r]) * strip_bytes for r in np.flatnonzero(held).tolist()},
            "missing": [
                np.flatnonzero(missing[:, s])[:MOST_MISSING].tolist() for s in range(ply.scheme.strips)
            ],
            "missing_count": int(missing.sum()),
            "holders": StateOut.of(
                worst(
                    outlook.node_with_disks(n)
                    for n in np.unique(view.disk_node[np.flatnonzero(held)]).tolist()
                )
            ),
            "what_if": [
                _what_if(view, ply, names[d], readable == d, d)
                for d in np.unique(readable[readable >= 0]).tolist()
            ],
            "change": stored.change_id if stored else None,
            "made_at": stored.made_at if stored else None,
        }
    )


def _what_if(view: SiteView, ply: Ply, name: str, hit: Flags, domain: int) -> WhatIf:
    after = fate(view, ply, without(view, ply.scheme.level, domain))
    return WhatIf(
        domain=name, extents_hit=int(hit.any(axis=1).sum()), unreadable=after.unavailable + after.lost
    )


def extent_out(view: SiteView, name: str, number: int) -> ExtentOut:
    """Where the copies of one extent (counted from 0) lie. Raises NotFound."""
    volume = view.volume(name)
    if not 0 <= number < volume.extents:
        raise NotFound(
            f"{volume.name} has extents 0 to {volume.extents - 1}, and no {number}.", about="extent"
        )
    strips = []
    for strip, row in enumerate(view.rows(volume.plies[0])[number].tolist()):
        disk = view.disks[row] if row < len(view.disks) else None
        strips.append(
            StripOut(
                copy_name="ABCDE"[strip],
                disk=disk.name if disk else None,
                node=view.nodes[disk.node].name if disk else None,
                readable=bool(disk and view.disk_ready[row]),
            )
        )
    return ExtentOut(number=number, strips=strips)


def barn_out(
    outlook: Outlook, site: SiteRow, yard: bool, restarts: list[Restart], failing: list[DutyRow]
) -> BarnOut:
    view = outlook.view
    headline, subline = outlook.headline()
    return BarnOut(
        name=view.name,
        revision=view.revision,
        operator=site.operator,
        grace_seconds=site.grace_seconds,
        yard=yard,
        headline=headline,
        subline=subline,
        counts=Counts(
            nodes=len(view.nodes), disks=len(view.disks), pools=len(view.pools), volumes=len(view.volumes)
        ),
        rooms=rooms_out(outlook),
        attention=[
            AttentionOut(
                lamp=a.lamp, kind=a.kind, name=a.name, title=a.title, sentence=a.sentence, since=a.since
            )
            for a in outlook.attention()
        ]
        + _failing(failing)
        + _restarted(restarts),
        ledgers=[LedgerOut.of(name, ledger) for name, ledger in site_ledgers(view)],
        stages=[StageOut.model_validate(s, from_attributes=True) for s in stages(view)],
        free=[free_figure(pool, space) for pool, space in zip(view.pools, outlook.spaces, strict=True)],
        pools=[pool_out(outlook, i) for i in range(len(view.pools))],
        volumes=[volume_out(outlook, i) for i in range(len(view.volumes))],
    )


def _failing(duties: list[DutyRow]) -> list[AttentionOut]:
    """What the watch cannot see to at present."""
    return [
        AttentionOut(
            lamp=Lamp.FAILED,
            kind="house",
            name=d.name,
            title=f"Fold Barn fails to {d.name}",
            since=d.at.timestamp(),
            sentence=f"It broke off with {d.problem}, and is tried again every second. The log of the work "
            "process has more.",
        )
        for d in duties
    ]


def _restarted(restarts: list[Restart]) -> list[AttentionOut]:
    """Processes of our own that had to be started again, one entry for each."""
    found = []
    for process in sorted({r.process for r in restarts}):
        mine = [r for r in restarts if r.process == process]
        last = mine[-1]
        at = datetime.fromtimestamp(last.at, UTC)
        words = (
            f"Last at {at:%H:%M:%S} UTC, because {last.why}. {say_count(len(mine), 'time')} in the last hour."
        )
        title = f"Fold Barn's own process {process} was started again"
        found.append(
            AttentionOut(
                lamp=Lamp.WATCH, kind="house", name=process, title=title, sentence=words, since=last.at
            )
        )
    return found


def change_out(row: ChangeRow, steps: list[StepRow], waits_for: ChangeRow | None) -> ChangeOut:
    return ChangeOut.model_validate(_change_fields(row, steps, waits_for))


def change_page(
    row: ChangeRow, steps: list[StepRow], waits_for: ChangeRow | None, asked: list[RecordRow]
) -> ChangePage:
    return ChangePage.model_validate(
        _change_fields(row, steps, waits_for)
        | {
            "params": row.params,
            "preview": row.preview,
            "records": [RecordOut.model_validate(r, from_attributes=True) for r in asked],
        }
    )


def _change_fields(row: ChangeRow, steps: list[StepRow], waits_for: ChangeRow | None) -> dict[str, object]:
    left = (row.total - row.done) / row.rate if row.rate and row.total else None
    return {
        "number": row.id,
        "kind": row.kind,
        "about": row.about,
        "title": row.preview["title"],
        "state": row.state,
        "asked": row.asked,
        "actor": row.actor,
        "reason": row.reason,
        "problem": row.problem,
        "again_at": again_at(row),
        "waits_for": OtherChange(number=waits_for.id, title=waits_for.preview["title"])
        if waits_for
        else None,
        "done_bytes": row.done,
        "total_bytes": row.total,
        "rate": row.rate,
        "rate_cap": row.rate_cap,
        "moved_bytes": row.moved,
        "work_seconds": row.work_seconds,
        "can_slow": any(moves_strips(s.name) for s in steps),
        "seconds_left": left,
        "made_at": row.made_at,
        "started_at": row.started_at,
        "ended_at": row.ended_at,
        "steps": [StepOut.model_validate(s, from_attributes=True) for s in steps],
    }
