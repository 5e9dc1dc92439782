"""The stand-in agents: inventory in the tools' own shapes, counters, and orders that are safe to repeat."""

from __future__ import annotations

import hashlib
import time
import zlib
from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np

from foldbarn.core.machines.hardware import POOL_SIGNATURE
from foldbarn.core.machines.reading import PROTOCOL
from foldbarn.core.pools.roles import rated_bytes
from foldbarn.core.site import slots_of
from foldbarn.core.volumes.pace import COUNTED
from foldbarn.yard import council, hosts, past, shares
from foldbarn.yard.consumers import compressed_part, operations_a_second
from foldbarn.yard.council import BadOrder
from foldbarn.yard.machines import Landing, Machines, Order, PlyFacts, Strip, copies_of
from foldbarn.yard.scenario import StandInDisk, StandInPort
from foldbarn.yard.serving import busy_part
from foldbarn.yard.thin import written_part


def inventory(machines: Machines, node: str) -> dict[str, Any]:
    """What the node's agent reports, in the shapes of lsblk, smartctl and ip."""
    built = machines.nodes[node]
    inside = machines.inside(node)
    devices, smart, bays = [], {}, {}
    letters = iter("abcdefghijklmnopqrstuvwxyz")
    nvmes = 0
    for disk in inside:
        bays[disk.serial] = disk.bay
        for _ in range(2 if disk.double_path else 1):
            if disk.media == "nvme":
                name, nvmes = f"nvme{nvmes}n1", nvmes + 1
            else:
                name = f"sd{next(letters)}"
            devices.append(_device(machines, disk, name))
            smart[f"/dev/{name}"] = _smart(machines, disk)
    return {
        "protocol": PROTOCOL,
        "node": {
            "name": node,
            "room": built.room,
            "rack": built.rack,
            "position": built.position,
            "cores": built.cores,
            "memory_bytes": built.memory_bytes,
        },
        "lsblk": {"blockdevices": devices},
        "smartctl": smart,
        "ip": [_link(machines, node, number, p) for number, p in enumerate(built.ports, 2)],
        "purposes": {p.name: p.purpose for p in built.ports},
        "neighbours": {p.name: p.neighbour for p in built.ports if p.neighbour},
        "bays": bays,
        "enclosures": {d.serial: d.enclosure for d in inside if d.enclosure},
        "endurance": {
            d.serial: rated_bytes(d.size_bytes, d.drive_writes_a_day) for d in inside if d.drive_writes_a_day
        },
        "cache": {d.serial: machines.bound[d.serial] for d in inside if d.serial in machines.bound},
        "encrypted": sorted(d.serial for d in inside if d.serial in machines.sealed),
        "compressed": {d.serial: machines.units[d.serial] for d in inside if d.serial in machines.units},
    }


def addresses_of(machines: Machines, node: str, port: StandInPort) -> list[str]:
    """The addresses a port has: those it was given, else those it came with."""
    return machines.addresses.get(f"{node}:{port.name}", list(port.addresses))


def _link(machines: Machines, node: str, number: int, port: StandInPort) -> dict[str, Any]:
    """A link as `ip --json addr` prints it."""
    found = [(a.split("/")[0], int(a.split("/")[1])) for a in addresses_of(machines, node, port)]
    return {
        "ifindex": number,
        "ifname": port.name,
        "flags": ["BROADCAST", "MULTICAST", *(["UP", "LOWER_UP"] if port.up else [])],
        "mtu": port.mtu,
        "operstate": "UP" if port.up else "DOWN",
        "link_type": "ether",
        "addr_info": [
            {"family": "inet6" if ":" in a else "inet", "local": a, "prefixlen": n, "scope": "global"}
            for a, n in found
        ],
        "link_speed_mbit": port.megabits,
    }


def _device(machines: Machines, disk: StandInDisk, name: str) -> dict[str, Any]:
    pool = machines.pool_of.get(disk.serial)
    device: dict[str, Any] = {
        "name": name,
        "path": f"/dev/{name}",
        "type": "disk",
        "size": disk.size_bytes,
        "rota": disk.media == "hdd",
        "tran": "nvme" if disk.media == "nvme" else "sata",
        "ro": disk.read_only,
        "rm": False,
        "serial": disk.serial,
        "wwn": disk.wwn,
        "model": disk.model,
        "pttype": "gpt" if disk.boot else None,
        "fstype": POOL_SIGNATURE
        if pool
        else None
        if disk.serial in machines.cleared
        else disk.signature or None,
        "label": pool,
        "uuid": machines.site_of.get(disk.serial) if pool else None,
        "mountpoints": [],
    }
    if disk.boot:
        device["children"] = [
            {
                "name": f"{name}1",
                "type": "part",
                "size": 512 * 2**20,
                "fstype": "vfat",
                "mountpoints": ["/boot/efi"],
            },
            {
                "name": f"{name}2",
                "type": "part",
                "size": disk.size_bytes - 2**30,
                "fstype": "ext4",
                "mountpoints": ["/"],
            },
        ]
    return device


WARM = {"nvme": 36, "ssd": 28, "hdd": 30}  # degrees Celsius of a disk that does nothing
WARMER = 9  # so much, where it does all it can
WORN_WHEN_NEW = 2  # per cent of its rated life, which an NVMe device had used when it came
WORSE_SECONDS = 14_400  # of the yard's time, after which a disk that wears has lost one more sector


def _said(machines: Machines, disk: StandInDisk) -> dict[str, int]:
    """What a disk says of itself, by the names that the agent protocol has."""
    own = zlib.crc32(disk.serial.encode())
    warm = WARM[disk.media] + own % 8 + round(WARMER * busy_part(machines, disk.serial))
    said = {"temperature": warm}
    if disk.media == "nvme":
        rated = rated_bytes(disk.size_bytes, disk.drive_writes_a_day)
        written = machines.counters[disk.serial].written_bytes
        return said | {"percentage_used": WORN_WHEN_NEW + int(100 * written / rated) if rated else 0}
    lost = 312 + int(machines.clock // WORSE_SECONDS) if disk.wears else 0
    return said | {"reallocated": lost, "pending": 0, "uncorrectable": 0}


def _smart(machines: Machines, disk: StandInDisk) -> dict[str, Any]:
    said, own = _said(machines, disk), zlib.crc32(disk.serial.encode())
    of_any = {
        "power_on_time": {"hours": 4_000 + own % 21_000 + int(machines.clock // 3_600)},
        "temperature": {"current": said["temperature"]},
    }
    if disk.media == "nvme":
        written = int(machines.counters[disk.serial].written_bytes)
        return {
            **of_any,
            "nvme_smart_health_information_log": {
                "critical_warning": 0,
                "percentage_used": said["percentage_used"],
                "data_units_written": written // 512_000,
            },
        }
    return {
        **of_any,
        "smart_status": {"passed": True},
        "ata_smart_attributes": {
            "table": [
                {"id": 5, "name": "Reallocated_Sector_Ct", "raw": {"value": said["reallocated"]}},
                {"id": 197, "name": "Current_Pending_Sector", "raw": {"value": 0}},
                {"id": 198, "name": "Offline_Uncorrectable", "raw": {"value": 0}},
            ]
        },
    }


def inventory_version(machines: Machines, node: str) -> str:
    """Changes whenever the inventory does, written sectors aside. Asked for every second, so it is made from
    what can change only.
    """
    built = machines.nodes[node]
    disks = [
        (
            d.serial,
            machines.pool_of.get(d.serial),
            machines.site_of.get(d.serial),
            d.serial in machines.cleared,
            d.size_bytes,
            d.signature,
            d.double_path,
            d.read_only,
            machines.bound.get(d.serial),
            d.serial in machines.sealed,
        )
        for d in machines.inside(node)
    ]
    worn = any(d.wears for d in built.disks) and int(machines.clock // WORSE_SECONDS)
    ports = [
        (p.name, p.purpose, p.up, p.megabits, p.mtu, p.neighbour, addresses_of(machines, node, p))
        for p in built.ports
    ]
    return hashlib.sha256(
        repr((built.room, built.rack, built.cores, built.memory_bytes, disks, worn, ports)).encode()
    ).hexdigest()[:16]


def counted(machines: Machines, node: str) -> dict[str, Any]:
    """All that this node counts: beside the bytes of its disks those of its ports, and what it has done for
    consumers.
    """
    done = {}
    for ply, told in work(machines, node).items():
        pairs = [[bucket, count] for bucket, count in enumerate(told["times"]) if count]
        done[ply] = told | {"times": pairs}
    ports = {}
    for port in machines.nodes[node].ports:
        sent, received = machines.traffic[f"{node}:{port.name}"]
        ports[port.name] = {"sent_bytes": int(sent), "received_bytes": int(received)}
    found = counters(machines, node)
    for disk in machines.inside(node):
        found["disks"][disk.serial]["health"] = _said(machines, disk)
    return {"uptime": machines.clock, **found, "ports": ports, "work": done}


def counters(machines: Machines, node: str) -> dict[str, Any]:
    """Bytes read and written per disk since it was made, by serial."""
    return {
        "disks": {
            d.serial: {"read_bytes": int(c.read_bytes), "written_bytes": int(c.written_bytes)}
            for d in machines.inside(node)
            for c in [machines.counters[d.serial]]
        }
    }


def written(machines: Machines, node: str) -> dict[str, int]:
    """Bytes of each ply that consumers have written to the strips on this node's own disks, by ply
    number.
    """
    found: dict[str, int] = {}
    for disk in machines.nodes[node].disks:
        for ply, strips in machines.held[disk.serial].items():
            known = machines.facts_of(ply)
            if ply in machines.pasts:
                continue
            if landing := machines.landings.get(str(ply)):
                # Each copy holds what waits, a part of it on each disk.
                share = strips / max(machines.strips_of(ply), 1)
                found[str(ply)] = found.get(str(ply), 0) + int(landing.waiting * landing.copies * share)
            elif strips and known.bytes:
                written = int(strips * known.bytes * written_part(machines, ply))
                found[str(ply)] = found.get(str(ply), 0) + written
    return found


def compressed(machines: Machines, node: str) -> dict[str, list[int]]:
    """Of each ply, bytes that consumers have written to strips on this node's own disks that compress, and
    those that they take there.
    """
    found: dict[str, list[int]] = {}
    for disk in machines.nodes[node].disks:
        if not (unit := machines.units.get(disk.serial)):
            continue
        for ply, strips in machines.held[disk.serial].items():
            known = machines.facts_of(ply)
            if ply in machines.pasts or str(ply) in machines.landings or not (strips and known.bytes):
                continue
            before = int(strips * known.bytes * written_part(machines, ply))
            sums = found.setdefault(str(ply), [0, 0])
            sums[0] += before
            sums[1] += int(before * compressed_part(known.first, unit))
    return found


def asked(machines: Machines, node: str) -> dict[str, Any]:
    """Operations that consumers have asked of each extent of which this node holds a strip, since its volume
    was made, by ply number. The count goes with the data, wherever that is copied to; of a landing there is
    none.
    """
    extents: dict[int, set[int]] = defaultdict(set)
    for disk in machines.inside(node):
        for ply, extent, _ in machines.strips.get(disk.serial, ()):
            extents[ply].add(extent)
    found = {}
    for ply in extents.keys() - {int(ply) for ply in machines.landings} - machines.pasts.keys():
        known, mine = machines.facts_of(ply), np.array(sorted(extents[ply] - machines.closed.get(ply, set())))
        rates = operations_a_second(known.first, mine, known.data)
        so_far = np.full(len(mine), machines.asked.get(str(known.first), 0.0))
        if before := machines.opened.get(known.first):  # what was opened late was asked for nothing before
            first_strips = (mine * known.data).tolist()
            so_far -= np.array([before.get(strip, 0.0) for strip in first_strips])
        counts = np.floor(rates * so_far).astype(np.int64)
        found[str(ply)] = {"extents": mine.tolist(), "operations": counts.tolist()}
    keeps = past.shares(machines, node)
    return {"uptime": machines.clock, "plies": found, "work": work(machines, node), "keeps": keeps}


def work(machines: Machines, node: str) -> dict[str, Any]:
    """What this node has done for consumers since it started, by ply number: see the protocol."""
    found = {}
    for ply, counts in machines.work[node].items():
        totals = np.floor(counts).astype(np.int64).tolist()
        found[str(ply)] = dict(zip(COUNTED, totals, strict=False)) | {"times": totals[len(COUNTED) :]}
    return found


def settle(machines: Machines, landing: Landing, amount: float) -> None:
    """Writes some of what waits where it belongs, as whole stripes: to each disk as it has strips of it.
    While no such disk works it goes on waiting.
    """
    amount = min(amount, landing.waiting)
    there = machines.holding(landing.lands_for)
    working = {serial: strips for serial, strips in there.items() if machines.works(serial)}
    if amount <= 0 or not working:
        return
    landing.waiting -= amount
    for ply, strips, serial in machines.lying(landing.lands_for):
        if serial in working:
            # All strips there are, over the data in them, is what a byte of data takes on disks.
            written = amount * strips * machines.facts_of(landing.lands_for).bytes / landing.bytes
            machines.counters[serial].written_bytes += written
            machines.work[machines.node_of[serial]][ply][COUNTED.index("disk_written_bytes")] += written


def take_order(machines: Machines, node: str, body: dict[str, Any]) -> Order:
    """Carries out an order, or starts it; an order known by its id is answered with what became of it.

    Raises BadOrder for an unknown kind, an unknown disk or one that does not fit the order.
    """
    known = machines.orders.get(body["id"])
    if known is not None:
        return known
    order = Order(body["id"], node, body["kind"], body)
    handlers = {
        "prepare": _prepare,
        "release": _release,
        "reserve": _reserve,
        "reserve-all": _reserve_all,
        "open": _open,
        "drop": _drop,
        "copy": _copy,
        "locate": _locate,
        "bind": _bind,
        "throttle": _throttle,
        "limit": _limit,
        "hold": _hold,
        "mark": _mark,
        "marks": _marks,
        "bring-back": _bring_back,
        "serve": _serve,
        "files": _files,
        "clear": _clear,
        "address": _address,
        "ready": council.ready,
        "join": council.join,
        "leave": council.leave,
        "elect": council.elect,
        "lead": council.lead,
        "publish": council.publish,
    }
    if order.kind not in handlers:
        raise BadOrder(f"unknown kind of order '{order.kind}'")
    handlers[order.kind](machines, order)
    machines.orders[order.id] = order
    machines.keep_order(order)
    machines.keep_facts(time_alone=order.kind == "open")
    machines.flush()
    return order


def cancel_order(machines: Machines, id_: str) -> Order | None:
    """Stops a running order; strips it has finished stay."""
    order = machines.orders.get(id_)
    if order is not None and order.state == "running":
        order.state = "cancelled"
        machines.keep_order(order)
        machines.flush()
    return order


def describe_order(order: Order) -> dict[str, Any]:
    """An order's progress: indexes of the strips that are whole, and bytes moved in all."""
    return {
        "id": order.id,
        "kind": order.kind,
        "state": order.state,
        "problem": order.problem,
        "finished": [i for i, c in enumerate(order.copies) if c.done],
        "bytes_done": int(sum((c.size if c.done else c.moved for c in order.copies), order.bytes_done)),
        "bytes_total": int(sum((c.size for c in order.copies), order.bytes_total)),
    }


def _own_disk(machines: Machines, node: str, serial: str) -> StandInDisk:
    if serial not in machines.disks or node not in machines.nodes_of(serial) or serial in machines.pulled:
        raise BadOrder(f"{node} has no disk {serial}")
    return machines.disks[serial]


def _files(machines: Machines, order: Order) -> None:
    """All that there is of the file service of its cluster."""
    shares.take(machines, order)
    shares.decide(machines, 0.0, decides=council.decides(machines))
    order.state = "done"


def _prepare(machines: Machines, order: Order) -> None:
    for serial in order.body["disks"]:
        disk = _own_disk(machines, order.node, serial)
        label = machines.pool_of.get(serial)
        if disk.read_only:
            raise BadOrder(f"disk {serial} is read-only")
        if (
            disk.boot
            or (disk.signature and serial not in machines.cleared)
            or (label and label != order.body["pool"])
        ):
            raise BadOrder(f"disk {serial} is in use")
    for serial in order.body["disks"]:
        machines.pool_of[serial] = order.body["pool"]
        (machines.sealed.add if order.body.get("encrypted") else machines.sealed.discard)(serial)
        machines.units.pop(serial, None)
        if unit := int(order.body.get("compress_unit", 0)):
            machines.units[serial] = unit
        machines.site_of[serial] = order.body.get("site", "")
    order.state = "done"


def _release(machines: Machines, order: Order) -> None:
    for serial in order.body["disks"]:
        _own_disk(machines, order.node, serial)
        if machines.strips.get(serial):
            raise BadOrder(f"disk {serial} still holds {len(machines.strips[serial])} strips")
    for serial in order.body["disks"]:
        machines.pool_of.pop(serial, None)
        machines.site_of.pop(serial, None)
        machines.sealed.discard(serial)
        machines.units.pop(serial, None)
        machines.bound.pop(serial, None)
    order.state = "done"


def _bind(machines: Machines, order: Order) -> None:
    """Which cache device serves which disk, for all disks of a pool on this node; what is not named has
    none.
    """
    for disk, device in order.body["cache"].items():
        for serial in (disk, device):
            _own_disk(machines, order.node, serial)
            if machines.pool_of.get(serial) != order.body["pool"]:
                raise BadOrder(f"disk {serial} does not carry the mark of pool {order.body['pool']}")
    for d in machines.inside(order.node):
        if machines.pool_of.get(d.serial) == order.body["pool"]:
            machines.bound.pop(d.serial, None)
    machines.bound |= order.body["cache"]
    machines.moved |= machines.load.lie.keys()
    order.state = "done"


UNSETTLED = 16  # one strip in so many had writes that its cache device had not yet settled


def lose_unsettled(machines: Machines, device: str) -> None:
    """What goes with a cache device: the disks it served no longer hold, in a state worth reading, the strips
    that it had not settled.
    """
    for disk in [d for d, served_by in machines.bound.items() if served_by == device]:
        machines.in_cache.pop(disk, None)
        held = sorted(machines.strips.get(disk, ()))
        waiting = [strip for strip in held if machines.would_cache(disk, strip[0]) == "write-back"]
        for strip in waiting[::UNSETTLED]:
            machines.drop_strip(disk, strip)


def _throttle(machines: Machines, order: Order) -> None:
    """How fast the copies of this name may come in on this node, over all its orders, and who goes first."""
    machines.throttles[f"{order.node}/{order.body['name']}"] = (
        float(order.body["bytes_per_second"]),
        str(order.body["first"]),
    )
    order.state = "done"


def _limit(machines: Machines, order: Order) -> None:
    """What consumers may ask in a second of what this node holds of each ply, in operations and in bytes, 0
    for no limit, what its cache devices do for it, and what is withheld from them; of others there is no
    limit, and writes wait there.
    """
    _go_by(machines, order, _terms_told(order))
    machines.terms[order.node] = order.id
    order.state = "done"


@dataclass(frozen=True, slots=True)
class _Terms:
    """What a node goes by, by number of the ply: operations and bytes a second, what is cached, and the room
    that it shares with others in memory, with the bytes of that; and what the node withholds.
    """

    limits: dict[str, tuple[float, float]]
    cache: dict[int, str]
    withheld: set[int]
    memory: dict[int, tuple[str, int]]


def _terms_told(order: Order) -> _Terms:
    """What an order says of plies."""
    limits = {
        str(ply): (float(ops), float(size)) for ply, (ops, size) in order.body.get("limits", {}).items()
    }
    cache = {int(ply): str(does) for ply, does in order.body.get("cache", {}).items()}
    if unknown := set(cache.values()) - {"none", "read", "write-back", "memory"}:
        raise BadOrder(f"unknown cache '{min(unknown)}'")
    memory = {int(ply): (str(room), int(size)) for ply, (room, size) in order.body.get("memory", {}).items()}
    return _Terms(limits, cache, {int(ply) for ply in order.body.get("withheld", [])}, memory)


def _note_terms(machines: Machines, order: Order) -> None:
    """An order that brings strips says on which terms its node serves them; of others nothing changes."""
    told, node = _terms_told(order), order.node
    had = _Terms(
        machines.limits.get(node, {}),
        machines.caching[node],
        machines.withheld[node],
        machines.remembering[node],
    )
    then = _Terms(
        had.limits | told.limits,
        had.cache | told.cache,
        had.withheld | told.withheld,
        had.memory | told.memory,
    )
    if then != had:
        _go_by(machines, order, then)
        machines.terms[node] = order.id


def _go_by(machines: Machines, order: Order, terms: _Terms) -> None:
    machines.moved |= machines.caching[order.node].keys() ^ terms.cache.keys()
    machines.moved |= {p for p, does in terms.cache.items() if machines.caching[order.node].get(p) != does}
    rooms = machines.remembering[order.node]
    machines.moved |= {p for p in rooms.keys() | terms.memory.keys() if rooms.get(p) != terms.memory.get(p)}
    machines.remembering[order.node] = terms.memory
    machines.limits[order.node] = terms.limits
    machines.caching[order.node] = terms.cache
    machines.withheld[order.node] = terms.withheld
    machines.load.summed_at = None


def _hold(machines: Machines, order: Order) -> None:
    """What consumers write to these volumes waits, for so many seconds at the most; for none, it goes on."""
    for ply in order.body["plies"]:
        first = machines.facts_of(ply).first
        if order.body["seconds"]:
            machines.on_hold[first] = time.monotonic() + float(order.body["seconds"])
        else:
            machines.on_hold.pop(first, None)
    machines.load.summed_at = None
    order.state = "done"


def _mark(machines: Machines, order: Order) -> None:
    """Snapshots of this moment, by number of the ply of all of a volume. Only of what is on hold: all its
    nodes are to take the same moment.
    """
    found = []
    for ply, number in order.body["marks"].items():
        first = machines.facts_of(ply).first
        kept = past.past_of(machines, first)
        if kept is None:
            raise BadOrder(f"there is no room for the past of ply {ply}")
        if not past.is_held(machines, first):
            raise BadOrder(f"ply {ply} is not on hold")
        found.append((*kept, int(number)))
    for ply, kept_there, number in found:
        kept_there.mark(number)
        shares.mark(machines, kept_there.first, number)
        machines.keep_past(ply)
    order.state = "done"


def _marks(machines: Machines, order: Order) -> None:
    """Which snapshots there are of what this node holds, and which of them are read from: others are let go
    of.
    """
    said = {machines.facts_of(ply).first: marks for ply, marks in order.body["marks"].items()}
    told = {first: set(marks["there"]) for first, marks in said.items()}
    serials = {disk.serial for disk in machines.nodes[order.node].disks}
    for ply, kept in machines.pasts.items():
        if any(machines.held[s][ply] for s in serials) or machines.holding(kept.first).keys() & serials:
            for number in [n for n in kept.marks if n not in told.get(kept.first, ())]:
                kept.unmark(number)
            kept.read = set(said[kept.first]["read"]) if kept.first in said else set()
            machines.keep_past(ply)
    order.state = "done"


def _bring_back(machines: Machines, order: Order) -> None:
    """What a snapshot held is written over what its volume holds; refused while consumers may write there, or
    where what is overwritten would find no room.
    """
    ply, number = order.body["ply"], int(order.body["number"])
    first = machines.facts_of(ply).first
    found = past.past_of(machines, first)
    if found is None or number not in found[1].marks:
        raise BadOrder(f"there is no snapshot {number} of ply {ply}")
    if first not in machines.out_of_use():
        raise BadOrder(f"ply {ply} is in use")
    room, kept = found
    others = kept.others_than(number)
    if kept.used + kept.would_keep(others) > kept.room:
        raise BadOrder(f"what would be overwritten of ply {ply} finds no room")
    holding = machines.holding(first)
    mine = {disk.serial for disk in machines.inside(order.node)} & holding.keys()
    order.body["disks"] = sorted(mine)
    # As much of each strip here as of each strip of the volume's data.
    strips_of_data = max(len(others) * past.BLOCK / machines.facts_of(ply).bytes, 1)
    of_each = int(others.sum()) * past.BLOCK / strips_of_data
    order.bytes_total = of_each * sum(holding[serial] for serial in mine)
    shares.bring_back(machines, first, number)
    kept.overwrite(others)
    machines.keep_past(room)
    if not order.bytes_total:
        order.state = "done"


def _serve(machines: Machines, order: Order) -> None:
    """Which targets this node serves to hosts, at which of its addresses, and whom it lets in; no others."""
    for said in order.body["targets"].values():
        if said["transport"] not in ("iscsi", "nvme") or set(said["allows"].values()) - set(_MODES):
            raise BadOrder("a target is for iscsi or nvme, and hosts may read it or read and write")
        if said["bytes"] <= 0 or not said["disk"] or not said["portals"]:
            raise BadOrder("a target has a disk, bytes and portals")
    hosts.take_serve(machines, order.node, order.id, order.body["targets"])
    order.state = "done"


_MODES = ("read-only", "read-write")


def _clear(machines: Machines, order: Order) -> None:
    """Wipes what a disk carries. Refused for a boot disk and for one that holds strips of the site that
    asks.
    """
    serial = order.body["disk"]
    disk = _own_disk(machines, order.node, serial)
    if disk.boot:
        raise BadOrder(f"{order.node} boots from disk {serial}")
    if machines.strips.get(serial) and machines.site_of.get(serial) == order.body.get("site"):
        raise BadOrder(f"disk {serial} still holds {len(machines.strips[serial])} strips")
    for strip in list(machines.strips.get(serial, ())):
        machines.drop_strip(serial, strip)
    machines.pool_of.pop(serial, None)
    machines.site_of.pop(serial, None)
    machines.cleared.add(serial)
    order.state = "done"


def _address(machines: Machines, order: Order) -> None:
    """Gives ports their addresses; a port not named keeps its own."""
    ports = {p.name for p in machines.nodes[order.node].ports}
    for name in order.body["ports"]:
        if name not in ports:
            raise BadOrder(f"{order.node} has no port {name}")
    for name, addresses in order.body["ports"].items():
        machines.addresses[f"{order.node}:{name}"] = list(addresses)
    order.state = "done"


def probe(machines: Machines, node: str, targets: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Tries to open a connection to each target's address and port; `open`, and why not."""
    owner = {
        a.split("/")[0]: (n.name, p)
        for n in machines.nodes.values()
        for p in n.ports
        for a in addresses_of(machines, n.name, p)
    }
    results = []
    for target in targets:
        name, port = owner.get(str(target["address"]), ("", None))
        if not name or port is None or not port.up or not machines.power[name]:
            why = "no answer"
        elif (name, int(target["port"])) in machines.shut:
            why = "refused"
        else:
            why = ""
        results.append({"open": not why, "why": why})
    return results


def _reserve(machines: Machines, order: Order) -> None:
    _check_room(machines, order.node, [order.body])
    _set_aside(machines, order)
    order.state = "done"


def _reserve_all(machines: Machines, order: Order) -> None:
    """Several plies, or none of them."""
    _check_room(machines, order.node, order.body["each"])
    for number, each in enumerate(order.body["each"]):
        _set_aside(machines, Order(f"{order.id}.{number}", order.node, "reserve", each))
    order.state = "done"


def _check_room(machines: Machines, node: str, wishes: list[dict[str, Any]]) -> None:
    """Raises BadOrder where a disk is not the node's, cannot be written, or has no room for all that."""
    new: dict[str, int] = defaultdict(int)
    for body in wishes:
        for serial, wanted in body["strips"].items():
            disk = _own_disk(machines, node, serial)
            if disk.read_only:
                raise BadOrder(f"disk {serial} is read-only")
            mine = {(body["ply"], extent, strip) for extent, strip in wanted}
            new[serial] += len(mine - machines.strips[serial])
            most = slots_of(disk.size_bytes, body["bytes"], machines.units.get(serial, 0))
            if len(machines.strips[serial]) + new[serial] > most:
                raise BadOrder(f"disk {serial} is full")


def _set_aside(machines: Machines, order: Order) -> None:
    size, ply = order.body["bytes"], order.body["ply"]
    first = machines.facts_of(order.body.get("beside", ply)).first
    fresh = PlyFacts(size, machines.clock, first, order.body.get("data", 1))
    machines.plies.setdefault(str(ply), fresh)
    if origin := order.body.get("from"):
        hosts.bring(machines, machines.facts_of(ply).first, origin)
    if keeps := order.body.get("keeps_for"):
        first = machines.facts_of(keeps["ply"]).first
        kept = machines.pasts.setdefault(ply, past.Past(first, 0))
        kept.room = int(keeps["strips"]) * size
        machines.keep_past(ply)
    if lands := order.body.get("lands_for"):
        first = machines.facts_of(lands["ply"]).first
        machines.landings.setdefault(str(ply), Landing(first, lands["bytes"], lands["copies"]))
    _note_terms(machines, order)
    if "thin" in order.body:
        machines.thin[machines.facts_of(ply).first] = int(order.body["thin"])
    there = {extent for _, extents in order.body["strips"].items() for extent, _ in extents}
    if order.body.get("closed"):
        machines.closed[ply] |= there - machines.extents_open(ply, there)
    for serial, wanted in order.body["strips"].items():
        for extent, strip in wanted:
            machines.add_strip(serial, (ply, extent, strip))


def _open(machines: Machines, order: Order) -> None:
    """Consumers may write to these extents from here on."""
    ply = int(order.body["ply"])
    first, data = machines.facts_of(ply).first, machines.facts_of(ply).data
    asked = machines.asked.get(str(first), 0.0)
    for extent in machines.closed[ply] & set(order.body["extents"]):
        machines.closed[ply].discard(extent)
        machines.opened[first] |= {extent * data + strip: asked for strip in range(data)}
        machines.moved.add(ply)
    order.state = "done"


def _drop(machines: Machines, order: Order) -> None:
    plies = {str(ply) for strips in order.body["strips"].values() for ply, _, _ in strips}
    for ply in plies & machines.landings.keys():
        landing = machines.landings[ply]
        settle(machines, landing, landing.waiting)  # before anything of it is let go of
        if landing.waiting and machines.holding(landing.lands_for):
            raise BadOrder(f"what waits in ply {ply} has nowhere to settle now")
    for serial, strips in order.body["strips"].items():
        _own_disk(machines, order.node, serial)
        for ply, extent, strip in strips:
            machines.drop_strip(serial, (ply, extent, strip))
    left = {ply: found for ply, found in machines.landings.items() if machines.strips_of(int(ply))}
    machines.landings = left
    for ply in plies:
        machines.forget_dropped(int(ply))
    order.state = "done"


def _copy(machines: Machines, order: Order) -> None:
    order.copies = copies_of(order)
    _note_terms(machines, order)
    for copy in order.copies:
        if copy.along is None:
            _own_disk(machines, order.node, copy.target)
        copy.done = copy.strip in machines.strips[copy.target]
    if all(c.done for c in order.copies):
        order.state = "done"


def _locate(machines: Machines, order: Order) -> None:
    _own_disk(machines, order.node, order.body["disk"])
    (machines.lit.add if order.body["on"] else machines.lit.discard)(order.body["disk"])
    order.state = "done"


def strips_on(machines: Machines, node: str, serial: str) -> list[Strip]:
    """The strips that a disk holds, in order."""
    _own_disk(machines, node, serial)
    return sorted(machines.strips.get(serial, ()))


def strips_of(
    machines: Machines, node: str, plies: Collection[int]
) -> dict[str, dict[str, list[tuple[int, int]]]]:
    """By number of the ply, and by serial of the disks that a node reaches, what they hold of it, in order:
    extent, and which strip of it.
    """
    wanted = set(plies)
    found: dict[str, dict[str, list[tuple[int, int]]]] = {str(ply): {} for ply in plies}
    for disk in machines.inside(node):
        if not any(machines.held[disk.serial][ply] for ply in wanted):
            continue
        for ply, extent, strip in machines.strips[disk.serial]:
            if ply in wanted:
                found[str(ply)].setdefault(disk.serial, []).append((extent, strip))
    return {ply: {s: sorted(held) for s, held in on.items()} for ply, on in found.items()}
