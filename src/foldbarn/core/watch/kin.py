"""How what hangs together is, kind by kind."""

from __future__ import annotations

from collections.abc import Iterable

from foldbarn.core.policies.conformance import conformance
from foldbarn.core.volumes.lineage import Lineage, Link
from foldbarn.core.watch.claimed import claim_state
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.shares import share_state
from foldbarn.core.watch.states import Lamp
from foldbarn.core.watch.vms import vm_state


def lamps_of(outlook: Outlook, lineage: Lineage) -> dict[Link, Lamp]:
    """The worst of each kind in a lineage. A rack or a room is as the nodes and disks of the lineage that
    stand there; a policy as those of its volumes stand to it.
    """
    view, kin = outlook.view, {link: set(names) for link, names in lineage.kin.items()}
    nodes = [outlook.node(n).lamp for n in view.nodes if n.name in kin[Link.NODE]]
    disks = [outlook.disk(d).lamp for d in view.disks if d.name in kin[Link.DISK]]
    rows = [row for row, v in enumerate(view.volumes) if v.name in kin[Link.VOLUME]]
    standings = (conformance(view, view.volumes[row]) for row in rows)
    return {
        Link.CLAIM: _worst(claim_state(outlook, c).lamp for c in view.claims if c.name in kin[Link.CLAIM]),
        Link.HOST: _worst(outlook.host(h).lamp for h in view.hosts if h.name in kin[Link.HOST]),
        Link.VM: _worst(vm_state(outlook, vm).lamp for vm in view.vms if vm.name in kin[Link.VM]),
        Link.SHARE: _worst(share_state(outlook, s).lamp for s in view.shares if s.name in kin[Link.SHARE]),
        Link.VOLUME: _worst(outlook.volume(row).lamp for row in rows if not outlook.at_ease(row)),
        Link.POLICY: _worst(s.standing.lamp for s in standings if s is not None),
        Link.POOL: _worst(
            outlook.pool(row).lamp for row, p in enumerate(view.pools) if p.name in kin[Link.POOL]
        ),
        Link.DISK: _worst(disks),
        Link.NODE: _worst(nodes),
        Link.RACK: _worst([*nodes, *disks]),
        Link.ROOM: _worst([*nodes, *disks]),
    }


def _worst(lamps: Iterable[Lamp]) -> Lamp:
    order = list(Lamp)
    return max(lamps, key=order.index, default=Lamp.SOUND)
