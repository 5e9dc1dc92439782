"""What consumers may ask of volumes, node by node. Method: docs/methods.md, "Limits"."""

from __future__ import annotations

from collections import defaultdict

import numpy as np

from foldbarn.core.site import Purpose, SiteView, Volume

Limits = dict[int, tuple[float, float]]  # by number of a ply: operations and bytes a second; 0 for no limit


def limits_by_node(view: SiteView) -> dict[int, Limits]:
    """By number of the node, what consumers may ask in a second of what it holds of each ply. Every node has
    a part of its volume's limit, as large as its part of the volume's data; the parts sum to the limit.
    """
    found: dict[int, Limits] = defaultdict(dict)
    for volume in view.volumes:
        policy = view.policy_of(volume)
        if policy is None or not (policy.wishes.operations or policy.wishes.throughput):
            continue
        held = _data_by_node(view, volume)
        total = sum(held.values())
        for (node, ply), data in held.items():
            part = data / total
            limits = policy.wishes.operations * part, policy.wishes.throughput * part
            found[view.nodes[node].number][ply] = round(limits[0], 3), round(limits[1], 3)
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
