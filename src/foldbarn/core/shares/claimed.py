"""Shares that are made for claims: the nodes of the orchestrator may mount them, and whom people let in
besides.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from foldbarn.core.errors import NotPossible
from foldbarn.core.names import folded, natural_key
from foldbarn.core.shares.rules import Right, Rule, read_address
from foldbarn.core.site import SiteView

Thing = Mapping[str, Any]
OF_NODES = frozenset({"InternalIP", "ExternalIP"})  # Kubernetes API, core/v1: NodeAddress


def rules_for(view: SiteView, nodes: Iterable[Thing]) -> tuple[Rule, ...]:
    """A rule for each address of a node: those that its orchestrator tells, and those that the host tells
    which has its name. Root stays root: it hands files over to whom a pod runs as.
    """
    hosts = {folded(host.name): host for host in view.hosts}
    found: set[str] = set()
    for node in nodes:
        said = (node.get("status") or {}).get("addresses") or ()
        found |= {str(one.get("address")) for one in said if one.get("type") in OF_NODES}
        host = hosts.get(folded(str(node["metadata"]["name"])))
        if host is not None:
            found |= set(host.facts.addresses)
    known = [address for address in found if _is_address(address)]
    return tuple(
        Rule(address, Right.WRITE, root=True, follows=True) for address in sorted(known, key=natural_key)
    )


def _is_address(text: str) -> bool:
    try:
        read_address(text)
    except NotPossible:
        return False
    return True
