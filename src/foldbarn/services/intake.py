"""Taking in what agents, files, BMCs and texts say of nodes: new nodes, their disks with verdicts, what came and what went."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

import structlog
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from foldbarn.core.errors import Conflict, NotPossible
from foldbarn.core.reading import read_inventory
from foldbarn.core.site import Contact
from foldbarn.links.agents import Agent, open_client
from foldbarn.store.database import announce, transaction
from foldbarn.store.intake import add_node, find_node, settle, take_inventory
from foldbarn.store.tables import DiskRow, NodeRow, PoolRow

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
        node = find_node(session, inventory.node)
        if node is None:
            node = add_node(session, inventory, source="agent")
            node.agent_url = agent_url
            log.info("node reported in", node=inventory.node)
        elif node.agent_url != agent_url:
            if node.agent_url and node.contact == Contact.HEARD and node.heard_at is not None:
                raise Conflict(f"A node named {inventory.node} reports already, from another address.", about="agent_url")
            if node.contact == Contact.AWAITED:
                settle(session, node, inventory)
                node.contact, node.reason, node.source, node.since = Contact.HEARD.value, "", "agent", datetime.now(UTC)
            node.agent_url = agent_url
        node.heard_at = datetime.now(UTC)
        take_inventory(session, node, inventory)
        announce(session, "site")
    return inventory.node


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
