"""Chosen nodes and disks as they stand in a step."""

from __future__ import annotations

from foldbarn.changes.engine.step import Payload
from foldbarn.core.site import OnlyOn


class OnlyOnAt(Payload):
    """Where the strips of a volume may lie: numbers of nodes and of disks, none of either for anywhere."""

    nodes: tuple[int, ...] = ()
    disks: tuple[int, ...] = ()

    @classmethod
    def of(cls, only: OnlyOn) -> OnlyOnAt:
        return cls(nodes=tuple(sorted(only.nodes)), disks=tuple(sorted(only.disks)))

    def value(self) -> OnlyOn:
        return OnlyOn(frozenset(self.nodes), frozenset(self.disks))
