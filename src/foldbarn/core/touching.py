"""What changes touch: which of them may run side by side, and which wait for one another."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.claims.classes import StorageClass
from foldbarn.core.claims.kept import Orchestrator
from foldbarn.core.policies.policy import Policy
from foldbarn.core.shares.share import Share
from foldbarn.core.site import Disk, Host, Node, Pool, SiteView, Vm, Volume


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
    COPYING = "copying"  # of a volume, by its number: what is still to be written of it
    TARGET = "target"  # of a volume, by the volume's number: who reaches it, and how
    POLICY = "policy"
    HOST = "host"
    VM = "vm"
    SHARE = "share"
    ORCHESTRATOR = "orchestrator"
    CLASS = "class"  # of storage
    GRANTS = "grants"  # of a policy, by the policy's number
    CLAIM = "claim"
    DISK = "disk"
    NODE = "node"
    PLACES = "places"  # one: rooms, racks, and what stands where under which name
    NETWORK = "network"  # one: addresses and purposes of ports
    CLUSTER = "cluster"  # one
    FILES = "files"  # one: the file service


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
class Touched:
    """A thing that a change touches, for people. kind, name: of the thing whose page shows it, empty where it
    has none or is gone; words: what of it.
    """

    kind: str
    name: str
    words: str
    alone: bool


_OF_POOL = {
    Thing.POOL: "pool {}",
    Thing.STRIPS: "where strips of {} lie",
    Thing.SETTINGS: "settings of {}",
    Thing.LEAVING: "which disks leave {}",
    Thing.REBUILD: "rebuilding {}",
}
_OF_VOLUME = {Thing.COPYING: "what is still to be written of {}", Thing.TARGET: "who reaches {}"}
_OF_POLICY = {Thing.GRANTS: "who may have {}"}
_ONE = {
    Thing.PLACES: "rooms, racks, and what stands where",
    Thing.NETWORK: "addresses and purposes of ports",
    Thing.CLUSTER: "the cluster",
    Thing.FILES: "the file service",
}


def touched(view: SiteView, touches: Iterable[Touch]) -> list[Touched]:
    """What these are, by the names they have now, whole kinds of things after one another."""
    order = list(Thing)
    return [_touched(view, t) for t in sorted(touches, key=lambda t: (order.index(t.what), t.number))]


_Named = Pool | Volume | Disk | Node | Policy | Host | Vm | Share | Orchestrator | StorageClass


def _touched(view: SiteView, touch: Touch) -> Touched:
    if touch.what in _ONE:
        return Touched("", "", _ONE[touch.what], touch.alone)
    of_others = ((_OF_POOL, "pool"), (_OF_VOLUME, "volume"), (_OF_POLICY, "policy"))
    kind = next((one for words, one in of_others if touch.what in words), touch.what.value)
    if touch.number == 0:
        return Touched("", "", f"a new {kind}", touch.alone)
    if touch.what is Thing.CLAIM:
        path = next((one.path for one in view.claims if one.number == touch.number), "")
        return Touched("", path, f"claim {path or 'that is gone'}", touch.alone)
    things: dict[str, Iterable[_Named]] = {
        "pool": view.pools,
        "volume": view.volumes,
        "disk": view.disks,
        "node": view.nodes,
        "policy": view.current_policies,
        "host": view.hosts,
        "vm": view.vms,
        "share": view.shares,
        "orchestrator": view.orchestrators,
        "class": view.classes,
    }
    name = next((thing.name for thing in things[kind] if thing.number == touch.number), "")
    if touch.what is Thing.VM:
        return Touched(kind if name else "", name, f"VM {name or 'that is gone'}", touch.alone)
    of = (_OF_POOL | _OF_VOLUME | _OF_POLICY).get(touch.what, f"{kind} {{}}")
    return Touched(kind if name else "", name, of.format(name or "that is gone"), touch.alone)


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
    hosts: tuple[Host, ...] = ()
    vms: tuple[Vm, ...] = ()
    shares: tuple[Share, ...] = ()
    orchestrators: tuple[Orchestrator, ...] = ()
    classes: tuple[StorageClass, ...] = ()

    def numbers(self) -> dict[str, dict[str, int]]:
        """Number by name as wished, by kind of thing."""
        things = {
            "pool": self.pools,
            "volume": self.volumes,
            "node": self.nodes,
            "disk": self.disks,
            "policy": self.policies,
            "host": self.hosts,
            "vm": self.vms,
            "share": self.shares,
            "orchestrator": self.orchestrators,
            "class": self.classes,
        }
        return {kind: {t.name: t.number for t in found} for kind, found in things.items() if found}  # type: ignore[attr-defined]
