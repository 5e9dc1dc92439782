"""Setting room aside for extents of volumes that are there. Room is placed first, then set aside on every
node, and only then opened to consumers: whatever is killed in between, nothing is written where it would not
be kept.
"""

from __future__ import annotations

import json
import zlib
from collections import defaultdict
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from uuid import uuid4

import numpy as np
import structlog

from foldbarn.changes.engine.terms import as_told
from foldbarn.core.actors import BY_ITSELF
from foldbarn.core.arrays import Ints
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.policies.giving import give as place_as_wanted
from foldbarn.core.policies.giving import take_back, wanted_by
from foldbarn.core.policies.limits import terms_of
from foldbarn.core.site import Pool, Short, SiteView, Volume
from foldbarn.core.units import say_count
from foldbarn.core.volumes.thin import to_set_aside
from foldbarn.links.agents import Agent
from foldbarn.store import giving, nodes, pools, records
from foldbarn.store.database import announce, transaction
from foldbarn.store.giving import Begun
from foldbarn.store.views import current_view, load_view

log = structlog.get_logger()
AT_ONCE = 512  # extents of one volume in one turn
CREW = 8  # nodes that are told side by side
NONE: Ints = np.zeros(0, dtype=np.int64)


def give(pool: Pool, volume: Volume, asked: Ints, *, refuses: bool) -> None:
    """Gives a volume room as far as its pool has it. asked: extents that its nodes want, some of which may
    have been given since; refuses: whether they refuse writes for want of them.
    """
    begun = None
    with transaction() as session:
        if pools.locked(session, pool.number) is None:
            return
        view = load_view(session)
        mine = next((v for v in view.volumes if v.number == volume.number), None)
        if mine is None or mine.forming:
            return
        wanted = wanted_by(view, mine, asked)
        found = place_as_wanted(view, mine, wanted, AT_ONCE)
        short = None
        if len(found.extents) < min(len(wanted), AT_ONCE):
            short = Short(found.left, refuses)
        news = giving.note_short(session, mine.number, short)
        if len(found.extents):
            begun = giving.begin(session, mine.whole.number, found.extents, found.placed)
            words = f"Room set aside for {say_count(len(found.extents), 'extent')} of {mine.name}."
            records.note(session, BY_ITSELF, words)
        if short is not None and mine.short is None:
            words = f"{mine.name} wants room for {say_count(short.extents, 'extent')}, and {pool.name} "
            records.note(session, BY_ITSELF, f"{words}has none.")
        if news or begun is not None:
            announce(session, "site")
    if begun is not None:
        finish(begun)


def still_to_set_aside(volume: Volume) -> int:
    """Extents of a volume that have no room, or that not every node has set aside, after having asked those
    once more.
    """
    with transaction() as session:
        mine = [one for one in giving.begun(session) if one.ply == volume.whole.number]
    for one in mine:
        finish(one)
    now = next((v for v in current_view().volumes if v.number == volume.number), volume)
    with transaction() as session:
        begun = sum(len(one.extents) for one in giving.begun(session) if one.ply == now.whole.number)
    return int(to_set_aside(now).sum()) + begun


def finish(begun: Begun) -> None:
    """Has the nodes set its strips aside, then lets consumers write there. What cannot be had now, since a
    disk is out or a node refuses, is taken back, and asked for again.
    """
    view = current_view()
    volume = next((v for v in view.volumes if v.whole.number == begun.ply), None)
    if volume is None:
        return  # gone, and what was begun with it
    if (begun.held or _set_aside(view, volume, begun)) and _open(view, volume, begun.extents):
        with transaction() as session:
            giving.done(session, begun.id)


def _set_aside(view: SiteView, volume: Volume, begun: Begun) -> bool:
    """Whether every node has set its strips aside."""
    pool, whole, terms = view.pools[volume.pool], volume.whole, terms_of(view, volume)
    by_node = _strips(view, volume, begun.extents)
    if by_node is None:
        _take_back(pool, volume, begun)
        return False
    order: dict[str, Any] = {
        "kind": "reserve",
        "ply": begun.ply,
        "bytes": pool.strip_bytes,
        "data": whole.scheme.k,
        "thin": whole.extents * whole.scheme.k,
        "closed": True,
    }
    orders = {}
    for node, strips in by_node.items():
        told = {**order, "strips": strips}
        if found := terms.get((node, begun.ply)):
            told |= as_told({begun.ply: found})
        digest = zlib.crc32(json.dumps(told).encode())
        orders[node] = {"id": f"aside-{begun.id}-{node}-{digest:x}", **told}
    try:
        _tell(orders)
    except NotPossible as error:
        log.info("room not set aside", volume=volume.name, why=error.sentence)
        _take_back(pool, volume, begun)
        return False
    except BarnError as error:  # tried again in the next turn, or taken back where the node falls silent
        log.info("room not set aside yet", volume=volume.name, why=error.sentence)
        return False
    with transaction() as session:
        held = giving.hold(session, begun.id)
        if not _lie_as_told(load_view(session), volume, begun):
            # Deleted, held otherwise, or moved meanwhile: what the nodes hold is compared.
            pools.look(session, [pool.number], f"{volume.name} has changed while room was set aside")
            announce(session, "site")
    return held


def _lie_as_told(view: SiteView, volume: Volume, begun: Begun) -> bool:
    """Whether what was begun still lies as the volume had it when nodes were told."""
    now = view.ply_numbered.get(begun.ply)
    told = volume.whole.placement[begun.extents]
    return now is not None and np.array_equal(now.placement[begun.extents], told)


def _strips(view: SiteView, volume: Volume, extents: Ints) -> dict[int, dict[str, list[list[int]]]] | None:
    """By number of the node and serial of the disk; None where one lies on no disk that can be had now."""
    placement = volume.whole.placement[extents]
    rows = view.row_of_number[placement]
    if (rows >= len(view.disks)).any() or not view.disk_ready[rows].all():
        return None
    found: dict[int, dict[str, list[list[int]]]] = defaultdict(lambda: defaultdict(list))
    for extent, of_extent in zip(extents.tolist(), rows.tolist(), strict=True):
        for strip, row in enumerate(of_extent):
            disk = view.disks[row]
            found[view.nodes[disk.node].number][disk.serial].append([extent, strip])
    return found


def _take_back(pool: Pool, volume: Volume, begun: Begun) -> None:
    with transaction() as session:
        if pools.locked(session, pool.number) is None:
            return
        view = load_view(session)
        mine = next((v for v in view.volumes if v.whole.number == begun.ply), None)
        if mine is not None and giving.take_back(session, begun, take_back(mine, begun.extents)):
            pools.look(session, [pool.number], f"Room for {volume.name} could not be set aside")
            words = (
                f"Room for {say_count(len(begun.extents), 'extent')} of {volume.name} could not be set aside."
            )
            records.note(session, BY_ITSELF, words)
        announce(session, "site")


def open_again(view: SiteView, volume: Volume, asked: Ints) -> None:
    """What nodes still ask for, and have set aside: they have not heard that consumers may write there."""
    there = asked[~to_set_aside(volume)[asked]]
    there = there[~(volume.upper | volume.through)[there]]
    if not len(there):
        return
    with transaction() as session:
        begun = [one.extents for one in giving.begun(session) if one.ply == volume.whole.number]
    there = np.setdiff1d(there, np.concatenate([NONE, *begun]))
    if len(there):
        _open(view, volume, there)


def _open(view: SiteView, volume: Volume, extents: Ints) -> bool:
    """Lets consumers write to extents that every node has set aside. Those of their disks that are out now
    do not keep the others from being written: a node that does not hear it asks again. Whether all that are
    there have heard.
    """
    rows = view.rows(volume.whole)[extents]
    on = np.unique(view.disk_node[rows[np.append(view.disk_ready, False)[rows]]]).tolist()
    order = {"kind": "open", "ply": volume.whole.number, "extents": extents.tolist()}
    try:
        _tell({view.nodes[row].number: {"id": f"open-{uuid4().hex}", **order} for row in on})
    except BarnError as error:
        log.info("consumers not let in yet", volume=volume.name, why=error.sentence)
        return False
    return True


def _tell(orders: dict[int, dict[str, Any]]) -> None:
    """Gives each node (by number) its order. Raises what the first that fails raises, when all are told."""
    with transaction() as session:
        names = nodes.addresses(session)

    def one(node: int) -> Callable[[], object]:
        return lambda: Agent(names[node][1]).send(orders[node])

    with ThreadPoolExecutor(max_workers=CREW) as crew:
        told = [crew.submit(one(node)) for node in orders]
    for answer in told:
        answer.result()
