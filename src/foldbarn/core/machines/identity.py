"""One disk, many views: which of the disks that nodes see are the same, and which stand in a box of their
own.

Two views are one disk when their world-wide names agree (NAA or EUI, however written); where either shows
none, when serial number and model agree. Disks seen from two nodes or more stand in an enclosure: a fault
domain of its own, because it fails without any of its nodes and survives the loss of one.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

_PREFIX = re.compile(r"^(0x|naa\.|eui\.|nvme\.|wwn-0x|uuid\.)", re.IGNORECASE)


def plain_wwn(text: str | None) -> str:
    """A world-wide name in one form: lower-case hexadecimal without prefix and separators; empty for none.

    "0x5000C500A1B2C3D4", "naa.5000c500a1b2c3d4" and "5000C500-A1B2C3D4" are the same name. All zeros is no
    name.
    """
    bare = _PREFIX.sub("", (text or "").strip())
    bare = re.sub(r"[\s:-]", "", bare).lower()
    return "" if not bare.strip("0") else bare


@dataclass(frozen=True, slots=True)
class Sight:
    """One disk as one node sees it under one name."""

    node: str
    kernel_name: str
    wwn: str  # as plain_wwn gives it
    serial: str
    model: str

    @property
    def identity(self) -> str:
        """What the disk is known by: its world-wide name, else model and serial number; empty where it shows
        neither.
        """
        return f"wwn:{self.wwn}" if self.wwn else f"serial:{self.model}/{self.serial}" if self.serial else ""


def same_disks(sights: Sequence[Sight]) -> list[list[int]]:
    """Groups of indexes that are one disk, in order of first sight. A view without any identity is a disk of
    its own.
    """
    group_of_wwn: dict[str, int] = {}
    by_serial: dict[tuple[str, str], list[int]] = defaultdict(list)
    groups: list[list[int]] = []
    for i, sight in enumerate(sights):
        found = group_of_wwn.get(sight.wwn) if sight.wwn else None
        if found is None and sight.serial:
            # A twin by serial and model counts only where one of the two shows no world-wide name.
            twins = by_serial[(sight.serial, sight.model)]
            found = next(
                (g for g in twins if not sight.wwn or not any(sights[j].wwn for j in groups[g])), None
            )
        if found is None:
            found = len(groups)
            groups.append([])
        groups[found].append(i)
        if sight.wwn:
            group_of_wwn.setdefault(sight.wwn, found)
        if sight.serial and found not in by_serial[(sight.serial, sight.model)]:
            by_serial[(sight.serial, sight.model)].append(found)
    return groups


@dataclass(frozen=True, slots=True)
class Box:
    """An enclosure: its disks (indexes of groups), the nodes that reach it, and paths that one would expect
    but that are not there.
    """

    name: str
    nodes: tuple[str, ...]
    disks: tuple[int, ...]
    missing: tuple[tuple[int, str, str], ...]  # (group, node, sentence)


def find_boxes(
    sights: Sequence[Sight], groups: Sequence[Sequence[int]], box_of: dict[str, str] | None = None
) -> list[Box]:
    """Enclosures among the disks, and the paths they lack.

    box_of: identity of a disk -> id of the enclosure it says it stands in, where the nodes know (SCSI
    enclosure services).
    Without it, disks that the same set of nodes sees stand in one box.
    """
    said = box_of or {}
    nodes_of = [tuple(sorted({sights[i].node for i in group})) for group in groups]
    members: dict[str, list[int]] = defaultdict(list)
    for g, group in enumerate(groups):
        name = next((said[sights[i].identity] for i in group if sights[i].identity in said), "")
        if name:
            members[name].append(g)
        elif len(nodes_of[g]) > 1:
            members["-".join(nodes_of[g])].append(g)
    boxes = []
    for name, disks in members.items():
        nodes = tuple(sorted({n for g in disks for n in nodes_of[g]}))
        if len(nodes) < 2:
            continue  # a shelf of one node fails with it: no domain of its own
        missing: list[tuple[int, str, str]] = []
        for node in nodes:
            paths = {g: sum(sights[i].node == node for i in groups[g]) for g in disks}
            most = max(paths.values())
            for g, count in paths.items():
                if count == 0:
                    missing.append((g, node, f"{node} has no path to it"))
                elif count < most:
                    missing.append((g, node, f"{node} has {count} of {most} paths to it"))
        boxes.append(Box(name, nodes, tuple(disks), tuple(missing)))
    return boxes
