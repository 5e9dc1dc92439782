"""What is seen of all volumes at once, and quickly: which of them could be other than they should be. Who
judges one by one judges those.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import cast

import numpy as np

from foldbarn.core.arrays import Flags, Ints
from foldbarn.core.hosts.initiators import Transport, target_stem
from foldbarn.core.hosts.lanes import Connected, live_paths, where_live
from foldbarn.core.site import SiteView
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
        view.findings["glance"] = Glance(whole_at_once(view, view.volumes), hosts, barely)
    return cast(Glance, view.findings["glance"])


def _reached(view: SiteView) -> tuple[Ints, Flags]:
    """Hosts that are attached to each volume, and whether one has fewer than two paths, [volumes]."""
    rows = {volume.number: row for row, volume in enumerate(view.volumes)}
    nodes = {node.number: where_live(view, node) for node in view.nodes}
    by_gateways: dict[tuple[int, ...], list[Connected]] = {}  # most serve many volumes together
    hosts, barely = [0] * len(rows), [False] * len(rows)
    for transport in Transport:
        stem = target_stem(transport, view.mark)
        names = {host.number: host.names_for(transport) for host in view.hosts}
        for target in view.targets:
            row = rows[target.volume]
            for one in target.attachments:
                if one.transport is transport:
                    hosts[row] += 1
                    at = by_gateways.get(target.gateways)
                    if at is None:
                        at = by_gateways[target.gateways] = [nodes[n] for n in target.gateways]
                    if live_paths(f"{stem}{target.volume}", names[one.host], at, enough=2) < 2:
                        barely[row] = True
    return np.array(hosts, dtype=np.int64), np.array(barely, dtype=np.bool_)
