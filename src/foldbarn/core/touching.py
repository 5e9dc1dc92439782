"""What changes touch: which of them may run side by side, and which wait for one another."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.policies.policy import Policy
from foldbarn.core.site import Disk, Node, Pool, Volume


class Thing(StrEnum):
    """Kinds of things that a change touches. Of those marked "one" there is one in a site; their number is
    0.
    """

    POOL = "pool"
    STRIPS = "strips"  # where the strips of a pool lie; touched for a step and not for a whole change
    SETTINGS = "settings"  # of a pool
    LEAVING = "leaving"  # of a pool: which of its disks are being emptied
    REBUILD = "rebuild"  # of a pool
    VOLUME = "volume"
    POLICY = "policy"
    DISK = "disk"
    NODE = "node"
    PLACES = "places"  # one: rooms, racks, and what stands where under which name
    NETWORK = "network"  # one: addresses and purposes of ports
    CLUSTER = "cluster"  # one


@dataclass(frozen=True, slots=True, order=True)
class Touch:
    """A thing by number. alone: nobody else may touch it meanwhile; otherwise only nobody who wants it
    alone.
    """

    what: Thing
    number: int
    alone: bool


def shared(what: Thing, number: int = 0) -> Touch:
    return Touch(what, number, alone=False)


def alone(what: Thing, number: int = 0) -> Touch:
    return Touch(what, number, alone=True)


def meet(one: Iterable[Touch], other: Iterable[Touch]) -> bool:
    """Whether two changes that touch these may not run side by side."""
    first: dict[tuple[Thing, int], bool] = {}
    for touch in one:
        key = touch.what, touch.number
        first[key] = first.get(key, False) or touch.alone
    return any((t.what, t.number) in first and (t.alone or first[t.what, t.number]) for t in other)


@dataclass(frozen=True, slots=True)
class Meant:
    """The things that a wish names, as they were when it was carried out. From then on they are known by
    their numbers.
    """

    pools: tuple[Pool, ...] = ()
    volumes: tuple[Volume, ...] = ()
    nodes: tuple[Node, ...] = ()
    disks: tuple[Disk, ...] = ()
    policies: tuple[Policy, ...] = ()

    def numbers(self) -> dict[str, dict[str, int]]:
        """Number by name as wished, by kind of thing."""
        things = {
            "pool": self.pools,
            "volume": self.volumes,
            "node": self.nodes,
            "disk": self.disks,
            "policy": self.policies,
        }
        return {kind: {t.name: t.number for t in found} for kind, found in things.items() if found}  # type: ignore[attr-defined]
