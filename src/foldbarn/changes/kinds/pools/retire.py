"""Retiring disks, nodes and racks: they are emptied, blanked and let go, and protection never falls while
that lasts.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import ClassVar, Literal

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.kinds.hosts.reached import served_until_logged_in
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, Moving, said_capacity
from foldbarn.changes.kinds.pools.joining import Bind
from foldbarn.changes.kinds.pools.leaving import (
    Blank,
    Drain,
    Leaving,
    LetGo,
    holding,
    leaving_blockers,
    leaving_effects,
    leaving_touches,
    leaving_warnings,
    mark_step,
    numbers_of,
    plan_leaving,
    pools_of,
    rooms_while_leaving,
    unreadable_blockers,
)
from foldbarn.core.names import folded, natural_key
from foldbarn.core.site import Disk, Pool, Role, SiteView
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_count, say_list


class RetireParams(Params):
    """Things of one level, by name."""

    what: Literal["disk", "node", "rack"]
    names: list[str] = Field(min_length=1, max_length=500)


def disks_under(view: SiteView, what: str, names: list[str]) -> tuple[list[Disk], list[str]]:
    """Disks in use that belong to these things, and the names that nothing has."""
    wanted = {folded(n) for n in names}
    things = {"disk": view.disks, "node": view.nodes, "rack": view.racks}[what]
    unknown = sorted(wanted - {folded(t.name) for t in things})  # type: ignore[attr-defined]
    found = []
    for row, disk in enumerate(view.disks):
        node = view.nodes[disk.node]
        rack = view.racks[int(view.disk_rack[row])]
        # A disk in an enclosure outlives the node that carries it, and leaves with the enclosure's rack.
        name = {"disk": disk.name, "node": node.name if disk.enclosure < 0 else "", "rack": rack.name}[what]
        if folded(name) in wanted and disk.pool >= 0:
            found.append(disk)
    return sorted(found, key=lambda d: natural_key(d.name)), unknown


@register
class Retire(Kind[RetireParams]):
    """mark (ours), drain (agents, for each pool), blank (agents), part (ours), bind (agents, where there is
    cache). The disks are those that the preview shows, also where a node or a rack is meant: it may stand
    elsewhere when its turn comes.
    """

    name: ClassVar[str] = "retire"
    params: ClassVar[type[Params]] = RetireParams

    def plan(self, view: SiteView, params: RetireParams) -> Plan:
        disks, unknown = disks_under(view, params.what, params.names)
        pools = pools_of(view, disks)
        gone = {d.number for d in disks}
        emptied = [p for p in pools if not _would_be_bare(view, p, gone)]
        left = [plan_leaving(view, pool, disks) for pool in emptied]
        moving = Moving()
        effects: list[AnyEffect] = []
        seconds: dict[int, float] = {}
        for found in left:
            told, seconds[found.pool.number] = leaving_effects(view, found, moving)
            effects += told
        if left:
            rooms = [room for found in left for room in rooms_while_leaving(view, found, "let go")]
            effects += [said_capacity(rooms), *moving.effects()]
        return Plan(
            title=f"Retire {say_list(params.names)}",
            about=say_list(params.names),
            summary=f"{say_count(len(disks), 'disk')} of {say_list([p.name for p in pools])}.",
            steps=_steps(view, disks, pools, seconds),
            effects=[*effects, NO_FEWER_COPIES],
            touches=leaving_touches(pools, disks),
            meant=Meant(disks=tuple(disks)),
            blockers=_blockers(view, params, disks, unknown, left),
            warnings=_warnings(view, params, disks, left),
        )


def _steps(
    view: SiteView, disks: Sequence[Disk], pools: Sequence[Pool], seconds: dict[int, float]
) -> list[Planned]:
    numbers = numbers_of(disks)
    drains = [
        Planned(
            Drain(pool=pool.number, disks=numbers),
            f"Move what {pool.name} keeps there",
            "Each strip to where it keeps its extent's spread.",
            seconds=seconds.get(pool.number),
            about=pool.name,
        )
        for pool in pools_of(view, holding(disks))
    ]
    binds = [
        Planned(Bind(pool=pool.number), f"Bind the cache of {pool.name} anew", seconds=1, about=pool.name)
        for pool in pools
        if any(d.role == Role.CACHE for d in view.all_of(pool))
    ]
    return [
        mark_step(disks),
        *drains,
        Planned(Blank(disks=numbers), "Blank them", "Each must hold nothing any more.", seconds=1),
        Planned(LetGo(disks=numbers), "Let them go", _once_gone(view, disks)),
        *binds,
    ]


def _once_gone(view: SiteView, disks: Sequence[Disk]) -> str:
    """What they are afterwards, as things are now: those that cannot be told to blank are unfit."""
    untold = sum(not view.disk_ready[view.row_of_number[d.number]] for d in disks)
    if not untold:
        return "They are fit and free, and may be pulled."
    unfit = (
        f"{say_count(untold, 'disk')} cannot be told to blank, and will be unfit until someone has looked."
    )
    return unfit if untold == len(disks) else f"{unfit} The others are fit and free."


def _would_be_bare(view: SiteView, pool: Pool, gone: set[int]) -> bool:
    """Whether a pool that holds no volume would have no disk left."""
    staying = [d for d in view.all_of(pool) if d.number not in gone and d.role == Role.CAPACITY]
    return not staying and not view.volumes_of(pool)


def _blockers(
    view: SiteView,
    params: RetireParams,
    disks: Sequence[Disk],
    unknown: Sequence[str],
    left: Sequence[Leaving],
) -> list[Note]:
    found = []
    if unknown:
        words = f"There is no {params.what} named {say_list(list(unknown))}."
        found.append(Note(sentence=words, about="names"))
    elif not disks:
        words = f"No pool uses a disk of {say_list(params.names)}."
        found.append(Note(sentence=words, about="names", next_step="There is nothing to empty."))
    if busy := [d.name for d in disks if d.retiring]:
        words = f"{say_list(busy)} {'is' if len(busy) == 1 else 'are'} being emptied already."
        found.append(Note(sentence=words, about="names"))
    found += unreadable_blockers(view, holding(disks))
    emptied = {one.pool.number for one in left}
    for pool in pools_of(view, disks):
        if pool.number not in emptied:
            step = f"Delete {pool.name} instead; it holds no volume."
            words = f"{pool.name} would have no disk left."
            found.append(Note(sentence=words, about="names", next_step=step))
    return found + [note for one in left for note in leaving_blockers(view, one)]


def _warnings(
    view: SiteView, params: RetireParams, disks: Sequence[Disk], left: Sequence[Leaving]
) -> list[Note]:
    found = [note for one in left for note in leaving_warnings(view, one)]
    named = {folded(name) for name in params.names}
    if params.what == "node" and (
        voters := [n.name for n in view.nodes if n.keeper and folded(n.name) in named]
    ):
        words = f"{say_list(voters)} still {'has' if len(voters) == 1 else 'have'} a vote in the cluster."
        step = "Let it go from the cluster as well before it is switched off."
        found.append(warning("still-votes", words, next_step=step))
    gone = {d.number for d in disks}
    # Who has no disk of a volume's pool any more is to serve it to hosts no more.
    stay = {(view.nodes[d.node].name, d.pool) for d in view.disks if d.pool >= 0 and d.number not in gone}
    found += served_until_logged_in(view, lambda lane, path: (path.node, lane.volume.pool) not in stay)
    served = {d.node for d in view.disks if d.role == Role.CAPACITY and d.number not in gone}
    for disk in (d for d in disks if d.role == Role.CACHE and d.node in served):
        words = (
            f"{disk.name} is cache: what it has taken settles first, and other devices of its node serve "
            "its disks."
        )
        found.append(warning("cache-leaves", words, about=disk.name))
    return found
