"""Taking in what agents, files, BMCs and texts say of nodes: new nodes, their disks with verdicts, what came
and what went.
"""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime
from typing import Any

import structlog

from foldbarn.core.actors import agent_of
from foldbarn.core.errors import Conflict, NotAllowed, NotPossible
from foldbarn.core.machines.hardware import Inventory
from foldbarn.core.machines.network import check_address
from foldbarn.core.machines.reading import read_inventory
from foldbarn.core.site import Contact
from foldbarn.links.agents import Agent
from foldbarn.store import pools, records, watching
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.intake import add_node, find_node, settle, take_inventory
from foldbarn.store.tables import NodeRow

log = structlog.get_logger()


def welcome_agent(agent_url: str, key: str = "") -> str:
    """An agent announces itself: it is asked for its inventory and its node becomes known. Safe to repeat.

    key: a secret of the agent's own, the same ever after. The first that announces a node with one is that
    node's agent;
    its key's hash is kept, and from then on no other is let in under that name, whether the node is heard or
    silent.

    Returns the node's name. Raises Unreachable, NotPossible for nonsense, NotAllowed for another's name,
    Conflict where the node is heard from another address at this moment.
    """
    agent_url = check_address(agent_url, "An agent's address", about="agent_url")
    inventory = read_inventory(Agent(agent_url, stranger=True).inventory())
    proof = hashlib.sha256(key.encode()).hexdigest() if key else ""
    with transaction() as session:
        node = find_node(session, inventory.node)
        if node is None:
            node = add_node(session, inventory, source="agent")
            node.agent_url, node.agent_key = agent_url, proof
            log.info("node reported in", node=inventory.node)
            records.note(session, agent_of(inventory.node), f"{inventory.node} reported in.")
        else:
            if node.agent_key and not secrets.compare_digest(node.agent_key, proof):
                raise NotAllowed(
                    "Another agent holds the name that this one gives its node.",
                    about="key",
                    next_step="Start it with the key it had before, or under another name.",
                )
            _move_agent(session, node, inventory, agent_url)
            node.agent_key = proof
        node.heard_at = datetime.now(UTC)
        take_inventory(session, node, inventory)
        announce(session, "site")
    return inventory.node


def _move_agent(session: Session, node: NodeRow, inventory: Inventory, agent_url: str) -> None:
    """Notes from where a known node's agent reports now."""
    if node.agent_url == agent_url:
        return
    if node.agent_url and node.contact == Contact.HEARD and node.heard_at is not None:
        raise Conflict("Its node reports already, from another address.", about="agent_url")
    if node.contact == Contact.AWAITED:
        settle(session, node, inventory)
        node.contact, node.reason, node.source = Contact.HEARD.value, "", "agent"
        node.since = datetime.now(UTC)
    node.agent_url = agent_url
    records.note(session, agent_of(node.agent_name or node.name), f"{node.name} reports from {agent_url}.")


def node_is_back(session: Session, node: NodeRow) -> None:
    """The pools on a node that is heard again are to be compared with what it holds."""
    pools.look(session, watching.pools_on(session, node.id), f"{node.name} is back")


def read_report(report: dict[str, Any]) -> str:
    """The version of the inventory that a report names. Raises NotPossible for another shape."""
    version = report.get("inventory_version")
    if not isinstance(version, str):
        raise NotPossible("Its report names no version of its inventory.")
    return version
