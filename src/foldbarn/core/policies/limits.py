"""What consumers may ask of volumes, and what cache devices do for them, node by node. Method:
docs/methods.md, "Limits".
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
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
        for (node, ply), terms in terms_of(view, volume).items():
            found[node][ply] = terms
    return dict(found)


def terms_of(view: SiteView, volume: Volume) -> dict[tuple[int, int], Terms]:
    """By number of the node and of the ply, the terms of one volume; nothing where its policy sets none."""
    policy = view.policy_of(volume)
    if policy is None:
        return {}
    wishes = policy.wishes
    if not (wishes.operations or wishes.throughput or wishes.cache != Cache.ANY):
        return {}
    held = _data_by_node(view, volume)
    total = sum(held.values())
    return {
        (view.nodes[node].number, ply): Terms(
            operations=round(wishes.operations * data / total, 3),
            throughput=round(wishes.throughput * data / total, 3),
            cache=wishes.cache,
        )
        for (node, ply), data in held.items()
    }


def caches_told(view: SiteView, plies: Collection[int]) -> dict[int, Cache]:
    """What cache devices do for these plies (by number), where their volume's policy says so: a node that is
    given strips of them goes by it at once.
    """
    found: dict[int, Cache] = {}
    for volume in view.volumes:
        policy = view.policy_of(volume)
        if policy is None or policy.wishes.cache == Cache.ANY:
            continue
        for ply in volume.plies:
            if ply.number in plies and ply.purpose != Purpose.LANDING:
                found[ply.number] = policy.wishes.cache
    return found


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
