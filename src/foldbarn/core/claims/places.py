"""Where a claim's first pod runs, and which pools stand there (Kubernetes API, well-known labels of nodes:
topology.kubernetes.io/zone and others that begin so).
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from typing import Any

from foldbarn.core.claims.objects import SELECTED_NODE
from foldbarn.core.policies.matching import Answer, best
from foldbarn.core.site import Pool, SiteView

Thing = Mapping[str, Any]
TOPOLOGY = "topology."
_NOT_IN_LABELS = re.compile(r"[^a-z0-9._-]+")


def node_of(claim: Thing) -> str:
    """The name of the node that was chosen for the first pod of a claim; empty while none was."""
    return str((claim["metadata"].get("annotations") or {}).get(SELECTED_NODE) or "")


def places_of(node: Thing | None) -> tuple[str, ...]:
    """Names of the places that a node says it stands in, each once."""
    labels = ((node or {}).get("metadata") or {}).get("labels") or {}
    named = sorted(str(value) for key, value in labels.items() if key.startswith(TOPOLOGY) and value)
    return tuple(dict.fromkeys(named))


def as_label(name: str) -> str:
    """A place as the value of a label can say it: without spaces, and whatever its case."""
    return _NOT_IN_LABELS.sub("-", name.lower()).strip("-._")


def stands_near(view: SiteView, pool: Pool, near: Collection[str]) -> bool:
    """Whether a pool has a disk in any of these places: rooms and racks, by name."""
    wanted = {as_label(name) for name in near}
    for node in {disk.node for disk in view.all_of(pool)}:
        rack = view.racks[view.nodes[node].rack]
        if {as_label(rack.name), as_label(view.rooms[rack.room].name)} & wanted:
            return True
    return False


def best_near(view: SiteView, found: Sequence[Answer], near: Collection[str]) -> Answer | None:
    """Of the pools that keep a policy the best of those that stand in any of these places; of all of them
    where none does. None where none keeps it.
    """
    there = [one for one in found if one.keeps and near and stands_near(view, view.pools[one.pool], near)]
    return best(there or list(found))
