"""The very nodes and disks that may hold the strips of a volume, where a person has chosen some.
Method: docs/methods.md, "Chosen nodes and disks".
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import cast

import numpy as np

from foldbarn.core.arrays import Flags
from foldbarn.core.errors import NotFound
from foldbarn.core.names import folded, natural_key
from foldbarn.core.site import ANYWHERE, OnlyOn, Ply, SiteView, Volume
from foldbarn.core.units import say_list


def may_hold(view: SiteView, only: OnlyOn) -> Flags | None:
    """Disks that may hold strips of such a volume, [disks]; None where any may. Found once."""
    if not only:
        return None
    key = ("only on", only)
    if key not in view.findings:
        numbers = np.array([node.number for node in view.nodes], dtype=np.int64)
        of_nodes = np.isin(numbers, list(only.nodes))[view.disk_node] if len(view.disks) else False
        view.findings[key] = of_nodes | np.isin(view.disk_numbers, list(only.disks))
    return cast(Flags, view.findings[key])


def only_on_of(view: SiteView, ply: Ply) -> OnlyOn:
    """Where a ply may lie: as its volume may."""
    if "only on" not in view.findings:
        view.findings["only on"] = {v.number: v.only_on for v in view.volumes if v.only_on}
    return cast("dict[int, OnlyOn]", view.findings["only on"]).get(ply.volume, ANYWHERE)


def stray_strips(view: SiteView, ply: Ply) -> Flags:
    """Strips that can be read, and lie where their volume may not, [extents, strips]."""
    may = may_hold(view, only_on_of(view, ply))
    if may is None:
        return np.zeros(ply.placement.shape, dtype=np.bool_)
    flags: Flags = np.append(~may & view.disk_ready, False)[view.rows(ply)]
    return flags


def strays(view: SiteView, ply: int, disk: int) -> bool:
    """Whether a strip of a ply strays on a disk, both by number."""
    mine = view.ply_numbered.get(ply)
    may = may_hold(view, only_on_of(view, mine)) if mine is not None else None
    return may is not None and not np.append(may, True)[view.row_of_number[disk]]


def by_where(view: SiteView, plies: Iterable[Ply]) -> list[tuple[Flags | None, list[Ply]]]:
    """Plies by the disks that may hold them, [disks]; those that may lie on any come last, under None."""
    groups: dict[OnlyOn, list[Ply]] = {}
    for ply in plies:
        groups.setdefault(only_on_of(view, ply), []).append(ply)
    ordered = sorted(groups, key=lambda only: (not only, len(only.nodes) + len(only.disks)))
    return [(may_hold(view, only), groups[only]) for only in ordered]


def with_disk_instead(view: SiteView, disk: int, other: int) -> SiteView:
    """The site where what was to lie on a disk may lie on another instead, both by number."""

    def of(volume: Volume) -> Volume:
        if disk not in volume.only_on.disks:
            return volume
        return replace(volume, only_on=replace(volume.only_on, disks=volume.only_on.disks - {disk} | {other}))

    return replace(view, volumes=tuple(map(of, view.volumes)))


def say_only_on(view: SiteView, only: OnlyOn) -> str:
    """Their names; empty where any may hold it."""
    return say_list(names_of(view, only)) if only else ""


def names_of(view: SiteView, only: OnlyOn) -> list[str]:
    """In natural order."""
    if not only:
        return []
    names = [n.name for n in view.nodes if n.number in only.nodes]
    names += [d.name for d in view.disks if d.number in only.disks]
    return sorted(names, key=natural_key)


def chosen(view: SiteView, names: Sequence[str]) -> OnlyOn:
    """Nodes and disks by their names. Raises NotFound."""
    nodes = {folded(n.name): n.number for n in view.nodes}
    disks = {folded(d.name): d.number for d in view.disks}
    found_nodes, found_disks = set(), set()
    for name in (folded(name.strip()) for name in names if name.strip()):
        if name in nodes:
            found_nodes.add(nodes[name])
        elif name in disks:
            found_disks.add(disks[name])
        else:
            raise NotFound(f"There is no node and no disk named '{name}'.", about="only_on")
    return OnlyOn(frozenset(found_nodes), frozenset(found_disks))
