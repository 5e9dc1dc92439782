"""Nodes that believe they belong to a cluster which has counted them out."""

from __future__ import annotations

from foldbarn.changes.kinds.cluster.add_node import AddNode
from foldbarn.changes.kinds.cluster.form_cluster import FormCluster
from foldbarn.changes.kinds.cluster.let_go import LetGo
from foldbarn.store import changes as store_changes
from foldbarn.store import cluster as store_cluster
from foldbarn.store.database import Session
from foldbarn.store.tables import ChangeRow, NodeRow


def believers(session: Session) -> list[tuple[NodeRow, int, str]]:
    """Nodes that are heard and say that they belong to a cluster which counted them out while they were not
    heard.

    With the change that did so, and the cluster they name. A node that names another cluster, or was never
    counted out here, is nobody's to send away.
    """
    rows = store_cluster.heard_outsiders(session)
    if not rows:
        return []
    changes = store_changes.of_kinds(session, _ENDED_BY)
    if any(c.state in store_changes.OPEN_STATES for c in changes):
        return []  # one that is open may be about to have it join
    ours = store_cluster.name(session)
    found = []
    for row in rows:
        last = next((c for c in changes if _named(c, row)), None)
        if last is None or last.state != _ENDED_BY[last.kind]:
            continue
        if row.says["name"] == last.params.get("name", ours):
            found.append((row, last.id, str(row.says["name"])))
    return found


def _named(change: ChangeRow, node: NodeRow) -> bool:
    """Whether a change of the cluster is about this node; an old one knows it by its name only."""
    if change.meant:
        return node.id in change.meant.get("node", {}).values()
    return node.name in (change.params.get("members") or [change.params.get("node")])


# By kind: how it ends where the nodes that it names belong to no cluster afterwards.
_ENDED_BY = {FormCluster.name: "withdrawn", AddNode.name: "withdrawn", LetGo.name: "done"}
