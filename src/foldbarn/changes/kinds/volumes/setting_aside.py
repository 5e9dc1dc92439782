"""Room for the strips of a ply, set aside by the agents of its nodes."""

from __future__ import annotations

from collections import defaultdict
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.terms import as_told
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.limits import holders, terms_of
from foldbarn.core.pools.placement import strips_by_disk
from foldbarn.core.units import say_count
from foldbarn.core.volumes.thin import is_thin
from foldbarn.store import disks
from foldbarn.store import volumes as store_volumes
from foldbarn.store.database import transaction
from foldbarn.store.placements import read_placement
from foldbarn.store.views import current_view

ASKED_AT_ONCE = 16  # nodes
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
        keeps = store_volumes.keeps_for(session, ply)
    order: dict[str, Any] = {"kind": "reserve", "ply": ply, "bytes": strip_bytes, "data": data}
    if lands is not None:
        order["lands_for"] = {"ply": lands.ply, "bytes": lands.strips * strip_bytes, "copies": lands.copies}
    if keeps is not None and volume is not None and volume.past is not None:
        order["keeps_for"] = {"ply": keeps, "strips": volume.past.extents * data}
    if volume is not None and ply == volume.whole.number and is_thin(view, volume):
        order["thin"] = volume.whole.extents * data
    wanted = strips_by_node(ply)
    if volume is not None and volume.origin is not None and ply == volume.whole.number:
        # Of a copy they are told where strips are to come, too, and what it is a copy of.
        wanted = {node: {} for node, mine in holders(view, volume) if mine == ply} | wanted
        source = view.volume_numbered(volume.origin.volume).whole
        order["from"] = {"ply": source.number, "at": volume.origin.snapshot}
    orders = {node: {**order, "strips": strips} for node, strips in wanted.items()}
    for node, one in orders.items():
        if found := terms.get((node, ply)):
            one |= as_told({ply: found})
    run.tell_nodes(orders, part=f"ply{ply}")
    return set(wanted)


def read_back(run: Run, ply: int) -> None:
    """Each disk must hold what it was given. Raises NotPossible."""
    names, wanted = run.urls(), strips_by_node(ply)

    def held_by(node: int) -> dict[str, set[tuple[int, int]]]:
        name, url = names[node]
        return run.insist(name, lambda: run.agents(url).strips_of(ply))

    with ThreadPoolExecutor(max_workers=ASKED_AT_ONCE) as crew:
        found = dict(zip(wanted, crew.map(held_by, wanted), strict=True))
    for node, on_disks in wanted.items():
        for serial, strips in on_disks.items():
            missing = {(e, s) for e, s in strips} - found[node].get(serial, set())
            if missing:
                lacks = (
                    f"{say_count(len(missing), 'strip')} {'is' if len(missing) == 1 else 'are'} not on disk"
                )
                raise NotPossible(f"{names[node][0]} says it reserved every strip, but {lacks} {serial}.")
