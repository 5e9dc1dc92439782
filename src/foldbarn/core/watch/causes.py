"""What alerts have in common, so that a node that is lost is one message and not two hundred."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum

from foldbarn.core.site import AWAY, SiteView
from foldbarn.core.watch.samples import Sampled, Series

MANY = 3  # things of which one rule fires at once, and nothing else is known that they have in common


class Of(StrEnum):
    """What causes are."""

    NODE = "node"  # is not heard
    DISK = "disk"  # is missing
    RULE = "rule"  # fires of many things at once
    THING = "thing"  # of which it fires, and nothing else


@dataclass(frozen=True, slots=True, order=True)
class Cause:
    """By number; kind and part: of a thing, which kind it is, and of a port its name."""

    of: Of
    number: int
    kind: str = ""
    part: str = ""


@dataclass(frozen=True, slots=True)
class Fired:
    """That a rule, by number, fires of a thing."""

    rule: int
    series: Series


def causes_of(view: SiteView, fired: Sequence[Fired], known: Collection[Cause] = ()) -> list[Cause]:
    """Of each what it comes from: a node that it hangs on and that is not heard, the one that is so for
    longest; a disk of its that is missing; many things of the same rule; or it stands for itself. known:
    causes of what goes on already.
    """
    away = {node.number: node.since for node in view.nodes if node.contact in AWAY}
    missing = {d.number for d in view.disks if not d.present and not _taken_out(d.reasons)}
    hanging = _Hanging(view)
    found: list[Cause | None] = []
    for one in fired:
        disks = hanging.disks_of(one.series)
        nodes = hanging.nodes_of(one.series, disks) & away.keys()
        lost = disks & missing
        if nodes:
            found.append(Cause(Of.NODE, min(nodes, key=lambda number: (away[number], number))))
        elif lost:
            found.append(Cause(Of.DISK, min(lost)))
        else:
            found.append(None)
    alone = Counter(one.rule for one, cause in zip(fired, found, strict=True) if cause is None)
    return [
        cause or _alone(one, many=alone[one.rule] >= MANY or Cause(Of.RULE, one.rule) in known)
        for one, cause in zip(fired, found, strict=True)
    ]


def _alone(one: Fired, *, many: bool) -> Cause:
    if many:
        return Cause(Of.RULE, one.rule)
    return Cause(Of.THING, one.series.number, one.series.of.value, one.series.part)


def _taken_out(reasons: Sequence[object]) -> bool:
    return any(getattr(reason, "code", "") == "taken-out" for reason in reasons)


class _Hanging:
    """What things hang on, by number."""

    def __init__(self, view: SiteView) -> None:
        self.view = view
        self.node_of = {disk.number: view.nodes[disk.node].number for disk in view.disks}
        self.volumes = {volume.number: volume for volume in view.volumes}
        self.pools = {pool.number: pool for pool in view.pools}

    def disks_of(self, series: Series) -> set[int]:
        if series.of is Sampled.DISK:
            return {series.number} & self.node_of.keys()
        if series.of is Sampled.POOL and series.number in self.pools:
            return {disk.number for disk in self.view.all_of(self.pools[series.number])}
        if series.of is Sampled.VOLUME and series.number in self.volumes:
            plies = self.volumes[series.number].every_ply
            return {number for ply in plies for number in ply.disk_numbers.tolist()}
        return set()

    def nodes_of(self, series: Series, disks: set[int]) -> set[int]:
        if series.of in (Sampled.NODE, Sampled.PORT):
            return {series.number}
        return {self.node_of[number] for number in disks if number in self.node_of}
