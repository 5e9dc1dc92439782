"""What consumers may ask of volumes, and what cache devices do for them, node by node. Method:
docs/methods.md, "Limits".
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from foldbarn.core.policies.policy import Cache
from foldbarn.core.site import Purpose, SiteView, Volume


@dataclass(frozen=True, slots=True)
class Terms:
    """On which a node serves what it holds of a ply: operations and bytes that consumers may ask in a second,
    0 for no limit, and what its cache devices do.
    """

    operations: float
    throughput: float
    cache: Cache


def terms_by_node(view: SiteView) -> dict[int, dict[int, Terms]]:
    """By number of the node and of the ply. Every node has a part of its volume's limit, as large as its part
    of the volume's data; the parts sum to the limit. Of a ply without terms a node serves all that is asked,
    and caches as it does by itself.
    """
    found: dict[int, dict[int, Terms]] = defaultdict(dict)
    for volume in view.volumes:
        policy = view.policy_of(volume)
        if policy is None:
            continue
        wishes = policy.wishes
        if not (wishes.operations or wishes.throughput or wishes.cache != Cache.ANY):
            continue
        held = _data_by_node(view, volume)
        total = sum(held.values())
        for (node, ply), data in held.items():
            part = data / total
            terms = Terms(
                round(wishes.operations * part, 3), round(wishes.throughput * part, 3), wishes.cache
            )
            found[view.nodes[node].number][ply] = terms
    return dict(found)


def _data_by_node(view: SiteView, volume: Volume) -> dict[tuple[int, int], float]:
    """By row of the node and number of the ply, strips of data that lie there; of each strip on disks as much
    as it adds to that.
    """
    node_of = np.append(view.disk_node, -1)
    found = {}
    for ply in volume.plies:
        if ply.purpose == Purpose.LANDING:
            continue
        nodes, strips = np.unique(node_of[view.rows(ply)], return_counts=True)
        for node, count in zip(nodes.tolist(), strips.tolist(), strict=True):
            if node >= 0:
                found[node, ply.number] = count * ply.scheme.k / ply.scheme.strips
    return found
