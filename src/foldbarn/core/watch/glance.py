"""What is seen of all volumes at once, and quickly: which of them could be other than they should be. Who
judges one by one judges those.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import cast

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.hosts.attachments import Target
from foldbarn.core.hosts.initiators import Transport, target_stem
from foldbarn.core.hosts.lanes import Connected, live_paths, where_live
from foldbarn.core.site import Host, SiteView, Volume
from foldbarn.core.volumes.loss import whole_at_once


@dataclass(frozen=True, eq=False)
class Glance:
    """there: every strip of a volume can be read now, and it reads through nothing; hosts: attached to it;
    barely: one of these is connected to it by fewer than two paths. All are [volumes].
    """

    there: Flags
    hosts: Ints
    barely: Flags


def glance(view: SiteView) -> Glance:
    """Found once for each picture of the site."""
    if "glance" not in view.findings:
        hosts, barely = _reached(view)
        view.findings["glance"] = Glance(whole_at_once(view), hosts, barely)
    return cast(Glance, view.findings["glance"])


def _reached(view: SiteView) -> tuple[Ints, Flags]:
    """Hosts that are attached to each volume, and whether one has fewer than two paths, [volumes]."""
    live = [where_live(view, node) for node in view.nodes]
    # Most pictures are made for news of something else.
    kept = cast("_Reached | None", view.columns.kept.get("reached"))
    if kept is None or not kept.holds(view, live):
        kept = _Reached(view.columns.volumes, view.targets, view.hosts, view.mark, live, *_look(view, live))
        view.columns.kept["reached"] = kept
    return kept.attached, kept.barely


@dataclass(frozen=True, slots=True, eq=False)
class _Reached:
    """What was found, and of what."""

    volumes: Sequence[Volume]
    targets: tuple[Target, ...]
    hosts: tuple[Host, ...]
    mark: str
    live: list[Connected]
    attached: Ints
    barely: Flags

    def holds(self, view: SiteView, live: list[Connected]) -> bool:
        same = self.targets is view.targets and self.hosts is view.hosts and self.mark == view.mark
        if not same or self.live != live:
            return False
        volumes, now = self.volumes, view.volumes
        return volumes is now or [v.number for v in volumes] == [v.number for v in now]


def _look(view: SiteView, live: list[Connected]) -> tuple[Ints, Flags]:
    rows = {volume.number: row for row, volume in enumerate(view.volumes)}
    nodes = {node.number: connected for node, connected in zip(view.nodes, live, strict=True)}
    by_gateways: dict[tuple[int, ...], list[Connected]] = {}  # most serve many volumes together
    hosts, barely = [0] * len(rows), [False] * len(rows)
    stems = {transport: target_stem(transport, view.mark) for transport in Transport}
    names = {(host.number, t): host.names_for(t) for host in view.hosts for t in Transport}
    for target in view.targets:
        row, at = rows[target.volume], by_gateways.get(target.gateways)
        if at is None:
            at = by_gateways[target.gateways] = [nodes[n] for n in target.gateways]
        for one in target.attachments:
            hosts[row] += 1
            called = f"{stems[one.transport]}{target.volume}"
            if live_paths(called, names[one.host, one.transport], at, enough=2) < 2:
                barely[row] = True
    return np.array(hosts, dtype=np.int64), np.array(barely, dtype=np.bool_)
