"""Room for the strips of a ply, set aside by the agents of its nodes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any, cast

from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.terms import as_told
from foldbarn.core.arrays import Ints
from foldbarn.core.errors import NotPossible
from foldbarn.core.policies.limits import holders, terms_of
from foldbarn.core.pools.placement import strips_by_disk
from foldbarn.core.site import Purpose, SiteView, Volume
from foldbarn.core.units import say_count
from foldbarn.core.volumes.thin import is_thin
from foldbarn.store import disks
from foldbarn.store import volumes as store_volumes
from foldbarn.store.database import transaction
from foldbarn.store.placements import read_placements
from foldbarn.store.views import current_view

ASKED_AT_ONCE = 16  # nodes
Strips = dict[int, dict[str, list[list[int]]]]  # by node number and disk serial, [extent, strip] each


def strips_by_node(ply: int) -> Strips:
    """The strips of a ply, by where they lie."""
    return _by_node([ply], lambda strips: strips)[ply]


def strips_of(ply: int, extents: Ints) -> Strips:
    """Those of some of its extents."""
    mine = set(extents.tolist())
    return _by_node([ply], lambda strips: [one for one in strips if one[0] in mine])[ply]


def _by_node(plies: Sequence[int], chosen: Callable[[list[list[int]]], list[list[int]]]) -> dict[int, Strips]:
    """The chosen strips of several plies, by ply."""
    with transaction() as session:
        placed = read_placements(session, plies)
        held = {
            ply: {disk: some for disk, strips in strips_by_disk(one).items() if (some := chosen(strips))}
            for ply, one in placed.items()
        }
        places = disks.whereabouts(session, {disk for on_disks in held.values() for disk in on_disks})
    found: dict[int, Strips] = {ply: {} for ply in plies}
    for ply, on_disks in held.items():
        for disk, (node, serial) in places.items():
            if disk in on_disks:
                found[ply].setdefault(node, {})[serial] = on_disks[disk]
    return found


def set_aside(run: Run, ply: int, strip_bytes: int) -> set[int]:
    """Has every agent reserve the strips of a ply; returns the numbers of their nodes."""
    orders = _orders(current_view(), [ply], strip_bytes)[ply]
    run.tell_nodes(orders, part=f"ply{ply}")
    return set(orders)


def set_all_aside(run: Run, plies: Sequence[int], strip_bytes: int) -> set[int]:
    """The same for several plies, each agent in one go."""
    each: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for orders in _orders(current_view(), plies, strip_bytes).values():
        for node, order in orders.items():
            each[node].append(order)
    run.tell_nodes({node: {"kind": "reserve-all", "each": orders} for node, orders in each.items()})
    return set(each)


def _orders(view: SiteView, plies: Sequence[int], strip_bytes: int) -> dict[int, dict[int, dict[str, Any]]]:
    """By ply, and by number of the node, the order that sets its strips of the ply aside."""
    wanted = _by_node(plies, lambda strips: strips)
    with transaction() as session:
        held_as = store_volumes.held_as(session, plies)
        lands = {
            p: store_volumes.lands_for(session, p) for p, (of, _) in held_as.items() if of == Purpose.LANDING
        }
        keeps = {
            p: store_volumes.keeps_for(session, p) for p, (of, _) in held_as.items() if of == Purpose.PAST
        }
        beside = {p: store_volumes.beside(session, p) for p, (of, _) in held_as.items() if of == Purpose.HOT}
    found = {}
    for ply in plies:
        order: dict[str, Any] = {"kind": "reserve", "ply": ply, "bytes": strip_bytes, "data": held_as[ply][1]}
        if (landing := lands.get(ply)) is not None:
            size = landing.strips * strip_bytes
            order["lands_for"] = {"ply": landing.ply, "bytes": size, "copies": landing.copies}
        if ply in beside:
            order["beside"] = beside[ply]
        found[ply] = _orders_of(view, order, wanted[ply], keeps.get(ply))
    return found


def _orders_of(
    view: SiteView, order: dict[str, Any], wanted: Strips, keeps: int | None
) -> dict[int, dict[str, Any]]:
    """Those of a landing are told for which ply it takes what is written first, and each on which terms it
    serves what it is given. order: what all of them are told; keeps: of which the ply holds the past.
    """
    ply = order["ply"]
    volume = _volume_of(view, ply)
    terms = terms_of(view, volume) if volume is not None else {}
    if keeps is not None and volume is not None and volume.past is not None:
        order["keeps_for"] = {"ply": keeps, "strips": volume.past.extents * order["data"]}
    if volume is not None and ply == volume.whole.number and is_thin(view, volume):
        order["thin"] = volume.whole.extents * order["data"]
    if volume is not None and volume.origin is not None and ply == volume.whole.number:
        # Of a copy they are told where strips are to come, too, and what it is a copy of.
        wanted = {node: {} for node, mine in holders(view, volume) if mine == ply} | wanted
        source = view.volume_numbered(volume.origin.volume).whole
        order["from"] = {"ply": source.number, "at": volume.origin.snapshot}
    orders = {node: {**order, "strips": strips} for node, strips in wanted.items()}
    for node, one in orders.items():
        if found := terms.get((node, ply)):
            one |= as_told({ply: found})
    return orders


def _volume_of(view: SiteView, ply: int) -> Volume | None:
    """The volume that a ply is of. Found once for each picture of the site."""
    if "ply owners" not in view.findings:
        view.findings["ply owners"] = {p.number: v for v in view.volumes for p in v.plies}
    return cast("dict[int, Volume]", view.findings["ply owners"]).get(ply)


def read_back(run: Run, ply: int) -> None:
    """Each disk must hold what it was given. Raises NotPossible."""
    read_all_back(run, [ply])


def read_all_back(run: Run, plies: Sequence[int]) -> None:
    """The same for several plies, each agent in one go. Raises NotPossible."""
    names = run.urls()
    wanted: dict[int, dict[int, dict[str, list[list[int]]]]] = defaultdict(dict)
    for ply, strips in _by_node(plies, lambda strips: strips).items():
        for node, on_disks in strips.items():
            wanted[node][ply] = on_disks

    def held_by(node: int) -> dict[int, dict[str, set[tuple[int, int]]]]:
        name, url = names[node]
        return run.insist(name, lambda: run.agents(url).strips_of(list(wanted[node])))

    with ThreadPoolExecutor(max_workers=ASKED_AT_ONCE) as crew:
        found = dict(zip(wanted, crew.map(held_by, wanted), strict=True))
    for node, theirs in wanted.items():
        for ply, on_disks in theirs.items():
            _check(names[node][0], on_disks, found[node].get(ply, {}))


def _check(node: str, on_disks: dict[str, list[list[int]]], held: dict[str, set[tuple[int, int]]]) -> None:
    """Raises NotPossible where a disk does not hold what it was given."""
    for serial, strips in on_disks.items():
        missing = {(e, s) for e, s in strips} - held.get(serial, set())
        if missing:
            lacks = f"{say_count(len(missing), 'strip')} {'is' if len(missing) == 1 else 'are'} not on disk"
            raise NotPossible(f"{node} says it reserved every strip, but {lacks} {serial}.")
