"""Room for the strips of a ply, set aside by the agents of its nodes."""

from __future__ import annotations

from collections import defaultdict
from functools import partial
from typing import Any

from foldbarn.changes.engine.runner import Run
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.limits import terms_of
from foldbarn.core.policies.policy import Cache
from foldbarn.core.pools.placement import strips_by_disk
from foldbarn.core.volumes.thin import is_thin
from foldbarn.store import disks
from foldbarn.store import volumes as store_volumes
from foldbarn.store.database import transaction
from foldbarn.store.placements import read_placement
from foldbarn.store.views import current_view

Strips = dict[int, dict[str, list[list[int]]]]  # by node number and disk serial, [extent, strip] each


def strips_by_node(ply: int) -> Strips:
    """The strips of a ply, by where they lie."""
    found: Strips = defaultdict(dict)
    with transaction() as session:
        held = strips_by_disk(read_placement(session, ply))
        for disk, (node, serial) in disks.whereabouts(session, held).items():
            found[node][serial] = held[disk]
    return dict(found)


def set_aside(run: Run, ply: int, strip_bytes: int) -> set[int]:
    """Has every agent reserve the strips of a ply; returns the numbers of their nodes. Those of a landing are
    told for which ply it takes what is written first, and each on which terms it serves what it is given.
    """
    view = current_view()
    volume = next((v for v in view.volumes if ply in [p.number for p in v.plies]), None)
    terms = terms_of(view, volume) if volume is not None else {}
    with transaction() as session:
        lands = store_volumes.lands_for(session, ply)
        data = store_volumes.data_strips(session, ply)
    order: dict[str, Any] = {"kind": "reserve", "ply": ply, "bytes": strip_bytes, "data": data}
    if lands is not None:
        order["lands_for"] = {"ply": lands.ply, "bytes": lands.strips * strip_bytes, "copies": lands.copies}
    if volume is not None and ply == volume.whole.number and is_thin(view, volume):
        order["thin"] = volume.whole.extents * data
    wanted = strips_by_node(ply)
    orders = {node: {**order, "strips": strips} for node, strips in wanted.items()}
    for node, one in orders.items():
        if found := terms.get((node, ply)):
            one["limits"] = {str(ply): [found.operations, found.throughput]}
            one["cache"] = {str(ply): found.cache.value} if found.cache != Cache.ANY else {}
    run.tell_nodes(orders, part=f"ply{ply}")
    return set(wanted)


def read_back(run: Run, ply: int) -> None:
    """Each disk must hold what it was given. Raises NotPossible."""
    names = run.urls()
    for node, wanted in strips_by_node(ply).items():
        name, url = names[node]
        agent = run.agents(url)
        for serial, strips in wanted.items():
            held = run.insist(name, partial(agent.strips, serial, ply))
            there = {(e, s) for p, e, s in held.tolist() if p == ply}
            missing = {(e, s) for e, s in strips} - there
            if missing:
                raise NotPossible(
                    f"{name} says it reserved every strip, but {len(missing)} are not on disk {serial}."
                )
