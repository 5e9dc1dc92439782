"""Which things a watch rule looks at, and what they are called."""

from __future__ import annotations

from foldbarn.core.site import Contact, SiteView
from foldbarn.core.watch.rules import Chosen
from foldbarn.core.watch.samples import Sampled, Series


def covered(view: SiteView, of: Sampled, chosen: Chosen) -> list[Series]:
    """The things of a kind that are there and that were chosen, in the order in which they are listed. Those
    that nobody has ever heard of, and volumes that are being made or are in the bin, are not.
    """
    only = frozenset(chosen.only)
    return [one for one in _things(view, of, chosen) if not only or one.number in only]


def _things(view: SiteView, of: Sampled, chosen: Chosen) -> list[Series]:
    known = [node for node in view.nodes if node.contact != Contact.AWAITED]
    match of:
        case Sampled.NODE:
            return [Series(of, node.number) for node in known]
        case Sampled.PORT:
            return [Series(of, node.number, port.name) for node in known for port in node.ports]
        case Sampled.DISK:
            pools = _pool_numbers(view)
            return [
                Series(of, disk.number)
                for disk in view.disks
                if view.nodes[disk.node].contact != Contact.AWAITED
                and (not chosen.pool or (disk.pool >= 0 and pools[disk.pool] == chosen.pool))
            ]
        case Sampled.POOL:
            return [Series(of, pool.number) for pool in view.pools if not pool.forming]
        case Sampled.VOLUME:
            pools, mine = _pool_numbers(view), _volumes_for(view, chosen.namespace)
            return [
                Series(of, volume.number)
                for volume in view.volumes
                if not volume.forming
                and volume.binned is None
                and (not chosen.pool or pools[volume.pool] == chosen.pool)
                and (not chosen.namespace or volume.number in mine)
            ]


def _pool_numbers(view: SiteView) -> list[int]:
    return [pool.number for pool in view.pools]


def _volumes_for(view: SiteView, namespace: str) -> set[int]:
    """Numbers of the volumes that claims of a namespace have."""
    mine = (kept for kept in view.claims if kept.held and kept.claim.namespace == namespace)
    return {kept.volume for kept in mine if kept.volume is not None}


def names_of(view: SiteView) -> dict[tuple[Sampled, int], str]:
    """What all things of which there are samples are called, by kind and number; of a port, its node."""
    key = "names of what is sampled"
    if key not in view.findings:
        nodes = {node.number: node.name for node in view.nodes}
        kinds = {
            Sampled.NODE: nodes,
            Sampled.PORT: nodes,
            Sampled.DISK: {disk.number: disk.name for disk in view.disks},
            Sampled.POOL: {pool.number: pool.name for pool in view.pools},
            Sampled.VOLUME: {volume.number: volume.name for volume in view.volumes},
        }
        view.findings[key] = {(kind, n): name for kind, of in kinds.items() for n, name in of.items()}
    found = view.findings[key]
    assert isinstance(found, dict)
    return found


def name_of(view: SiteView, series: Series) -> str:
    """What a thing is called; empty where it is gone."""
    name = names_of(view).get((series.of, series.number), "")
    return f"{name} {series.part}" if name and series.part else name
