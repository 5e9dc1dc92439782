"""Hosts, as a page shows them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from foldbarn.api.bodies import StateOut
from foldbarn.api.changes.pictures import change_line
from foldbarn.api.hosts.models import (
    GateOut,
    GuestOut,
    HostOut,
    HostPage,
    HostShareOut,
    HostsOut,
    LaneOut,
    PathOut,
    RunsOut,
)
from foldbarn.core.hosts.lanes import Gate, Lane, Step, leaving
from foldbarn.core.names import natural_key
from foldbarn.core.shares.mounting import is_mount_of
from foldbarn.core.site import Contact, Host, SiteView
from foldbarn.core.vms.power import memory_left, uuid_of
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.reach import lane_state, vm_host_state
from foldbarn.core.watch.states import Lamp, worst
from foldbarn.store.tables import ChangeRow, HostRow

MOST_DOUBTFUL = 12  # ways drawn on one page


def _gate_out(step: Step) -> GateOut:
    return GateOut(
        gate=step.gate,
        place=list(Gate).index(step.gate),
        passage=step.passage,
        reason=step.reason,
        commands=list(step.commands),
    )


def lane_out(lane: Lane) -> LaneOut:
    return LaneOut(
        volume=lane.volume.name,
        host=lane.host.name,
        group=lane.host.group,
        transport=lane.attachment.transport,
        read_only=lane.attachment.read_only,
        file_system=lane.target.file_system,
        at=lane.attachment.at,
        target=lane.name,
        disk=lane.wwid,
        live=lane.live,
        mounted=lane.mounted,
        state=StateOut.of(lane_state(lane)),
        noticed=lane.noticed,
        missing=_gate_out(lane.missing) if lane.missing else None,
        untold=_gate_out(lane.untold) if lane.untold else None,
        paths=[
            PathOut(
                node=path.node,
                portal=path.portal,
                live=path.live,
                reason=path.reason,
                commands=list(path.commands),
            )
            for path in lane.paths
        ],
        gates=[_gate_out(step) for step in lane.steps],
        leaving=list(leaving(lane)),
    )


def _host_fields(outlook: Outlook, host: Host) -> dict[str, object]:
    lanes = outlook.lanes_to(host)
    return {
        "name": host.name,
        "group": host.group,
        "initiators": [one.name for one in host.initiators],
        "transports": sorted({one.transport for one in host.initiators}),
        "agent_url": host.agent_url,
        "contact": host.contact,
        "state": StateOut.of(outlook.host(host)),
        "volumes": [lane.volume.name for lane in lanes],
        "live": sum(lane.live for lane in lanes),
        "paths": sum(lane.width for lane in lanes),
        "runs": _runs_out(outlook, host),
    }


def _runs_out(outlook: Outlook, host: Host) -> RunsOut | None:
    view, runs = outlook.view, outlook.view.vm_host(host.number)
    if runs is None:
        return None
    ours = {uuid_of(view, vm): vm.name for vm in view.vms}
    left = memory_left(view, runs)
    return RunsOut(
        url=runs.url,
        user=runs.user,
        cpus=runs.cpus,
        memory_bytes=runs.memory_bytes,
        left_bytes=max(left, 0),
        given_bytes=runs.memory_bytes - left,
        missing=list(runs.missing),
        state=StateOut.of(vm_host_state(host, runs)),
        guests=[
            GuestOut(name=g.name, vm=ours.get(g.uuid, ""), on=g.on, memory_bytes=g.memory_bytes)
            for g in sorted(runs.guests, key=lambda g: natural_key(g.name))
        ],
    )


def hosts_out(outlook: Outlook) -> HostsOut:
    hosts = outlook.view.hosts
    groups = sorted({host.group for host in hosts if host.group}, key=natural_key)
    order = list(Lamp)
    doubtful = [lane for lane in outlook.lanes if lane_state(lane).lamp not in (Lamp.SOUND, Lamp.AWAY)]
    doubtful.sort(key=lambda lane: -order.index(lane_state(lane).lamp))
    return HostsOut(
        hosts=[HostOut.model_validate(_host_fields(outlook, host)) for host in hosts],
        groups=groups,
        doubtful=[lane_out(lane) for lane in doubtful[:MOST_DOUBTFUL]],
        doubtful_count=len(doubtful),
    )


def _shares(view: SiteView, host: Host) -> list[HostShareOut]:
    addresses = view.files.addresses if view.files is not None else ()
    found = []
    for one in host.facts.shares if host.tells else ():
        mine = (share.name for share in view.shares if is_mount_of(one.source, share, addresses))
        found.append(HostShareOut(name=next(mine, ""), source=one.source, at=one.at))
    return found


def host_page(outlook: Outlook, name: str, stored: HostRow, history: Sequence[ChangeRow]) -> HostPage:
    """Raises NotFound."""
    host = outlook.view.host(name)
    heard = host.contact != Contact.AWAITED
    return HostPage.model_validate(
        _host_fields(outlook, host)
        | {
            "since": datetime.fromtimestamp(host.since, UTC) if heard else None,
            "told_names": list(host.facts.names),
            "as_registered": set(host.facts.names) == {one.name for one in host.initiators},
            "services": list(host.facts.services),
            "gateways": StateOut.of(
                worst(outlook.node(node) for lane in outlook.lanes_to(host) for node in lane.nodes)
            ),
            "lanes": [lane_out(lane) for lane in outlook.lanes_to(host)],
            "shares": _shares(outlook.view, host),
            "change": stored.made_by,
            "made_at": stored.made_at,
            "history": [change_line(row) for row in history],
        }
    )
