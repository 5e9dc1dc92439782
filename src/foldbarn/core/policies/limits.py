"""What consumers may ask of volumes, and what cache devices do for them, node by node. Method:
docs/methods.md, "Limits".
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.policies.memory import is_in_memory, room_in, shares_a_room
from foldbarn.core.policies.policy import Cache
from foldbarn.core.site import Purpose, SiteView, Volume

# What lands is asked of the volume, and what snapshots hold is asked for by nobody.
_NOT_ASKED = (Purpose.LANDING, Purpose.PAST)


@dataclass(frozen=True, slots=True)
class Terms:
    """On which a node serves what it holds of a ply: operations and bytes that consumers may ask in a second,
    0 for no limit, and what its cache devices do. withheld: consumers may not use it at all. memory: bytes
    of its own that all plies of one room may take together for what is read most.
    """

    operations: float = 0.0
    throughput: float = 0.0
    cache: Cache = Cache.ANY
    withheld: bool = False
    room: str = ""
    memory: int = 0


@dataclass(frozen=True, slots=True)
class Limits:
    """What consumers may ask of a volume in a second, in operations and in bytes, 0 for no limit; and whether
    each is the volume's own, and not its policy's.
    """

    operations: int = 0
    throughput: int = 0
    own_operations: bool = False
    own_throughput: bool = False


def limits_of(view: SiteView, volume: Volume) -> Limits:
    """Its own limits hold where they are lower than those of its policy: what that promises nobody is raised
    by hand.
    """
    policy = view.policy_of(volume)
    most = (policy.wishes.operations, policy.wishes.throughput) if policy else (0, 0)
    own = volume.operations, volume.throughput
    lower = [bool(mine) and (not theirs or mine < theirs) for mine, theirs in zip(own, most, strict=True)]
    operations, throughput = (
        mine if is_lower else theirs for mine, theirs, is_lower in zip(own, most, lower, strict=True)
    )
    return Limits(operations, throughput, *lower)


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
    """By number of the node and of the ply, the terms of one volume; nothing where neither it nor its
    policy sets any and consumers may use it now.
    """
    found = _terms_set(view, volume)
    if volume.served and not volume.parked:
        return found
    there = {key: found.get(key, Terms()) for key in holders(view, volume)}
    return {key: replace(terms, withheld=True) for key, terms in there.items()}


def _terms_set(view: SiteView, volume: Volume) -> dict[tuple[int, int], Terms]:
    policy, limits = view.policy_of(volume), limits_of(view, volume)
    cache = policy.wishes.cache if policy else Cache.ANY
    if not (limits.operations or limits.throughput or cache != Cache.ANY):
        return {}
    held = _data_by_node(view, volume)
    total = sum(held.values())
    return {
        (view.nodes[node].number, ply): Terms(
            operations=round(limits.operations * data / total, 3),
            throughput=round(limits.throughput * data / total, 3),
            cache=cache,
            room=shares_a_room(policy) if policy and is_in_memory(policy) else "",
            memory=room_in(view.nodes[node], policy) if policy else 0,
        )
        for (node, ply), data in held.items()
    }


def holders(view: SiteView, volume: Volume) -> list[tuple[int, int]]:
    """Numbers of the nodes that hold, or are to hold, strips of each ply of a volume, and of the ply."""
    node_of = np.append(view.disk_node, -1)
    return [
        (view.nodes[row].number, ply.number)
        for ply in volume.every_ply
        for row in np.unique(node_of[view.row_of_number[ply.disk_numbers]]).tolist()
        if row >= 0
    ]


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
            if ply.number in plies and ply.purpose not in _NOT_ASKED:
                found[ply.number] = policy.wishes.cache
    return found


def withheld_told(view: SiteView, plies: Collection[int]) -> list[int]:
    """Those of these plies (by number) that consumers may not use: a node that is given strips of them serves
    none of them from the first.
    """
    withheld = (volume for volume in view.volumes if volume.parked or not volume.served)
    kept = (ply.number for volume in withheld for ply in volume.every_ply)
    return sorted(number for number in kept if number in plies)


def _data_by_node(view: SiteView, volume: Volume) -> dict[tuple[int, int], float]:
    """By row of the node and number of the ply, strips of data that lie there; of each strip on disks as much
    as it adds to that.
    """
    node_of = np.append(view.disk_node, -1)
    found = {}
    for ply in volume.plies:
        if ply.purpose in _NOT_ASKED:
            continue
        nodes, strips = np.unique(node_of[view.rows(ply)], return_counts=True)
        for node, count in zip(nodes.tolist(), strips.tolist(), strict=True):
            if node >= 0:
                found[node, ply.number] = count * ply.scheme.k / ply.scheme.strips
    return found
