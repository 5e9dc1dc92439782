"""The stand-in agents: inventory in the tools' own shapes, counters, and orders that are safe to repeat."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from foldbarn.core.hardware import POOL_SIGNATURE
from foldbarn.core.site import slots_of
from foldbarn.yard.machines import Machines, Order, Strip, copies_of
from foldbarn.yard.scenario import StandInDisk

PROTOCOL = "foldbarn-agent/1"


class BadOrder(Exception):
    """An order that the agent refuses, in a sentence."""


def inventory(machines: Machines, node: str) -> dict[str, Any]:
    """What the node's agent reports, in the shapes of lsblk, smartctl and ip."""
    built = machines.nodes[node]
    inside = [d for d in built.disks if d.serial not in machines.pulled]
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
        "ip": [{"ifname": p.name, "operstate": "UP" if p.up else "DOWN", "mtu": 9000, "link_speed_mbit": p.megabits} for p in built.ports],
        "purposes": {p.name: p.purpose for p in built.ports},
        "bays": bays,
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
        "ro": False,
        "rm": False,
        "serial": disk.serial,
        "wwn": disk.wwn,
        "model": disk.model,
        "pttype": "gpt" if disk.boot else None,
        "fstype": POOL_SIGNATURE if pool else disk.signature or None,
        "label": pool,
        "mountpoints": [],
    }
    if disk.boot:
        device["children"] = [
            {"name": f"{name}1", "type": "part", "size": 512 * 2**20, "fstype": "vfat", "mountpoints": ["/boot/efi"]},
            {"name": f"{name}2", "type": "part", "size": disk.size_bytes - 2**30, "fstype": "ext4", "mountpoints": ["/"]},
        ]
    return device


def _smart(machines: Machines, disk: StandInDisk) -> dict[str, Any]:
    written = int(machines.counters[disk.serial].written_bytes)
    if disk.media == "nvme":
        return {"nvme_smart_health_information_log": {"critical_warning": 0, "percentage_used": 2, "data_units_written": written // 512_000}}
    moved = 312 + int(machines.clock // 14_400) if disk.wears else 0
    return {
        "smart_status": {"passed": True},
        "ata_smart_attributes": {
            "table": [
                {"id": 5, "name": "Reallocated_Sector_Ct", "raw": {"value": moved}},
                {"id": 197, "name": "Current_Pending_Sector", "raw": {"value": 0}},
                {"id": 198, "name": "Offline_Uncorrectable", "raw": {"value": 0}},
            ]
        },
    }


def inventory_version(machines: Machines, node: str) -> str:
    """Changes whenever the inventory does, written sectors aside."""
    found = inventory(machines, node)
    for smart in found["smartctl"].values():
        smart.pop("nvme_smart_health_information_log", None)
    return hashlib.sha256(json.dumps(found, sort_keys=True).encode()).hexdigest()[:16]


def counters(machines: Machines, node: str) -> dict[str, Any]:
    """Bytes read and written per disk since it was made, by serial."""
    return {
        "disks": {
            d.serial: {"read_bytes": int(c.read_bytes), "written_bytes": int(c.written_bytes)}
            for d in machines.nodes[node].disks
            if d.serial not in machines.pulled
            for c in [machines.counters[d.serial]]
        }
    }


def take_order(machines: Machines, node: str, body: dict[str, Any]) -> Order:
    """Carries out an order, or starts it; an order known by its id is answered with what became of it.

    Raises BadOrder for an unknown kind, an unknown disk or one that does not fit the order.
    """
    known = machines.orders.get(body["id"])
    if known is not None:
        return known
    order = Order(body["id"], node, body["kind"], body)
    handlers = {"prepare": _prepare, "release": _release, "reserve": _reserve, "drop": _drop, "copy": _copy, "locate": _locate}
    if order.kind not in handlers:
        raise BadOrder(f"unknown kind of order '{order.kind}'")
    handlers[order.kind](machines, order)
    machines.orders[order.id] = order
    machines.keep_order(order)
    machines.keep_facts()
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
        "bytes_done": int(sum(c.size if c.done else c.moved for c in order.copies)),
        "bytes_total": sum(c.size for c in order.copies),
    }


def _own_disk(machines: Machines, node: str, serial: str) -> StandInDisk:
    if machines.node_of.get(serial) != node or serial in machines.pulled:
        raise BadOrder(f"{node} has no disk {serial}")
    return machines.disks[serial]


def _prepare(machines: Machines, order: Order) -> None:
    for serial in order.body["disks"]:
        disk = _own_disk(machines, order.node, serial)
        label = machines.pool_of.get(serial)
        if disk.boot or disk.signature or (label and label != order.body["pool"]):
            raise BadOrder(f"disk {serial} is in use")
    for serial in order.body["disks"]:
        machines.pool_of[serial] = order.body["pool"]
    order.state = "done"


def _release(machines: Machines, order: Order) -> None:
    for serial in order.body["disks"]:
        _own_disk(machines, order.node, serial)
        if machines.strips.get(serial):
            raise BadOrder(f"disk {serial} still holds {len(machines.strips[serial])} strips")
    for serial in order.body["disks"]:
        machines.pool_of.pop(serial, None)
    order.state = "done"


def _reserve(machines: Machines, order: Order) -> None:
    size, volume = order.body["bytes"], order.body["volume"]
    for serial, wanted in order.body["strips"].items():
        disk = _own_disk(machines, order.node, serial)
        new = {(volume, extent, strip) for extent, strip in wanted} - machines.strips[serial]
        if len(machines.strips[serial]) + len(new) > slots_of(disk.size_bytes, size):
            raise BadOrder(f"disk {serial} is full")
    for serial, wanted in order.body["strips"].items():
        for extent, strip in wanted:
            machines.add_strip(serial, (volume, extent, strip))
    order.state = "done"


def _drop(machines: Machines, order: Order) -> None:
    for serial, strips in order.body["strips"].items():
        _own_disk(machines, order.node, serial)
        for volume, extent, strip in strips:
            machines.drop_strip(serial, (volume, extent, strip))
    order.state = "done"


def _copy(machines: Machines, order: Order) -> None:
    order.copies = copies_of(order)
    for copy in order.copies:
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
