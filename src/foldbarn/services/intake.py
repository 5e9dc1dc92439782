"""Taking in what agents report: new nodes, their disks with verdicts, what came and what went."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.hardware import Inventory, ReportedDisk, judge, read_inventory
from foldbarn.core.site import Role
from foldbarn.links.agents import Agent, open_client
from foldbarn.store.database import announce, transaction
from foldbarn.store.tables import DiskRow, NodeRow, PoolRow, RackRow, RoomRow

log = structlog.get_logger()


def welcome_agent(agent_url: str) -> str:
    """An agent announces itself: it is asked for its inventory and its node becomes known. Safe to repeat.

    Returns the node's name. Raises Unreachable, NotPossible for nonsense, Conflict where another address holds the name.
    """
    if not agent_url.startswith(("http://", "https://")):
        raise NotPossible("An agent's address starts with http:// or https://.", about="agent_url")
    with open_client() as client:
        inventory = read_inventory(Agent(agent_url, client).inventory())
    with transaction() as session:
        node = session.scalars(select(NodeRow).where(NodeRow.name.ilike(inventory.node))).one_or_none()
        if node is None:
            node = NodeRow(name=inventory.node, agent_url=agent_url, rack_id=_rack(session, inventory), position=inventory.position)
            session.add(node)
            session.flush()
            log.info("node reported in", node=inventory.node)
        elif node.agent_url != agent_url:
            heard_lately = node.contact == "heard" and node.heard_at is not None
            if heard_lately:
                raise Conflict(f"A node named {inventory.node} reports already, from another address.", about="agent_url")
            node.agent_url = agent_url
        node.heard_at = datetime.now(UTC)
        take_inventory(session, node, inventory)
        announce(session, "site")
    return inventory.node


def _rack(session: Session, inventory: Inventory) -> int:
    room = session.scalars(select(RoomRow).where(RoomRow.name == inventory.room)).one_or_none()
    if room is None:
        room = RoomRow(name=inventory.room)
        session.add(room)
        session.flush()
    rack = session.scalars(select(RackRow).where(RackRow.name == inventory.rack)).one_or_none()
    if rack is None:
        rack = RackRow(name=inventory.rack, room_id=room.id)
        session.add(rack)
        session.flush()
    return rack.id


def take_inventory(session: Session, node: NodeRow, inventory: Inventory) -> None:
    """Brings a node's facts and disks up to what its agent reports."""
    node.cores, node.memory_bytes = inventory.cores, inventory.memory_bytes
    node.ports = [{"name": p.name, "purpose": p.purpose, "up": p.up, "bytes_per_second": p.bytes_per_second} for p in inventory.ports]
    known = {d.serial: d for d in session.scalars(select(DiskRow).where(DiskRow.node_id == node.id))}
    reported = {d.serial: d for d in inventory.disks}
    for serial, disk in reported.items():
        if serial not in known:
            row = DiskRow(node_id=node.id, serial=serial, name=f"{node.name}-{disk.bay}", role=Role.UNCLAIMED.value)
            _take_disk(row, disk)
            session.add(row)
        else:
            _take_disk(known[serial], disk)
            if not known[serial].present:
                _came_back(session, known[serial])
    for serial, row in known.items():
        if serial not in reported and row.present:
            row.present, row.missing_since = False, datetime.now(UTC)


def _take_disk(row: DiskRow, disk: ReportedDisk) -> None:
    verdict = judge(disk)
    row.bay, row.kernel_name, row.paths, row.wwn, row.model = disk.bay, disk.kernel_name, list(disk.paths), disk.wwn, disk.model
    row.media, row.size_bytes = disk.media, disk.size_bytes
    row.reasons, row.watch = list(verdict.reasons), list(verdict.watch)
    if row.pool_id is None:
        row.role = (Role.BOOT if disk.boot else Role.UNCLAIMED if verdict.fit else Role.UNFIT).value


def _came_back(session: Session, row: DiskRow) -> None:
    row.present, row.missing_since, row.given_up = True, None, False
    if row.pool_id is not None:
        session.execute(update(PoolRow).where(PoolRow.id == row.pool_id).values(look_reason=f"{row.name} is back"))


def node_is_back(session: Session, node: NodeRow) -> None:
    """The pools on a node that is heard again are to be compared with what it holds."""
    pools = select(DiskRow.pool_id).where(DiskRow.node_id == node.id, DiskRow.pool_id.is_not(None))
    session.execute(update(PoolRow).where(PoolRow.id.in_(pools)).values(look_reason=f"{node.name} is back"))


def read_report(report: dict[str, Any]) -> str:
    """The version of the inventory that a report names. Raises NotPossible for another shape."""
    version = report.get("inventory_version")
    if not isinstance(version, str):
        raise NotPossible("Its report names no version of its inventory.")
    return version
