"""How everything of a site is, by kind, worst first; and whether it could lose something today."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from foldbarn.core.pools.healing import healing_sentence, heals
from foldbarn.core.watch.lamps import Outlook
from foldbarn.core.watch.states import Lamp, State

MOST_NAMED = 4  # of a kind that are not as they should be


@dataclass(frozen=True, slots=True)
class KindHealth:
    """Things of a kind by their lamps; and the names of the worst of them, with why."""

    kind: str
    counts: Mapping[Lamp, int]
    worst: tuple[tuple[str, State], ...]


@dataclass(frozen=True, slots=True)
class CouldLose:
    """What of a pool can be lost and still be made whole, as it stands now."""

    pool: str
    state: State


def health_of(outlook: Outlook) -> list[KindHealth]:
    """Of nodes, disks, pools, volumes and hosts; kinds of which there are none are left out."""
    view = outlook.view
    outlook.look_at_all()
    kept = [(row, volume) for row, volume in enumerate(view.volumes) if volume.binned is None]
    kinds: dict[str, Iterable[tuple[str, State]]] = {
        "node": ((node.name, outlook.node(node)) for node in view.nodes),
        "disk": ((disk.name, outlook.disk(disk)) for disk in view.disks),
        "pool": ((pool.name, outlook.pool(row)) for row, pool in enumerate(view.pools)),
        "volume": ((volume.name, outlook.volume(row)) for row, volume in kept),
        "host": ((host.name, outlook.host(host)) for host in view.hosts),
    }
    found = (_of_kind(kind, list(things)) for kind, things in kinds.items())
    return [one for one in found if one.counts]


def _of_kind(kind: str, things: list[tuple[str, State]]) -> KindHealth:
    order = list(Lamp)
    amiss = [one for one in things if one[1].lamp is not Lamp.SOUND]
    amiss.sort(key=lambda one: -order.index(one[1].lamp))
    counts = Counter(state.lamp for _, state in things)
    return KindHealth(kind, {lamp: counts[lamp] for lamp in order if counts[lamp]}, tuple(amiss[:MOST_NAMED]))


def could_lose(outlook: Outlook) -> list[CouldLose]:
    """Of each pool that is there."""
    found = []
    for pool, space in zip(outlook.view.pools, outlook.spaces, strict=True):
        if not pool.forming:
            lamp = Lamp.SOUND if heals(outlook.view, pool, space) else Lamp.WATCH
            found.append(CouldLose(pool.name, State(lamp, healing_sentence(outlook.view, pool, space))))
    return found
