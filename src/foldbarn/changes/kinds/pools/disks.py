"""Choosing disks that a pool may take: what stands against each, and the roles that a person gives them."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from pydantic import BaseModel, ConfigDict, Field

from foldbarn.changes.engine.effects import Note
from foldbarn.core.names import folded
from foldbarn.core.pools.roles import Override
from foldbarn.core.site import POOLED, Contact, Disk, Role, SiteView
from foldbarn.core.units import say_list


class OverrideIn(BaseModel):
    """Another role than the rule's, with the reason that is kept."""

    model_config = ConfigDict(extra="forbid")
    role: Role
    reason: str = Field(default="", max_length=300)


def overrides_of(wishes: dict[str, OverrideIn]) -> dict[str, Override]:
    return {name: Override(wish.role, wish.reason) for name, wish in wishes.items()}


def overrides_so_far(wishes: dict[str, OverrideIn]) -> dict[str, Override]:
    """The same while a person is still filling them in: what has no reason yet is shown all the same."""
    return {
        name: Override(w.role, w.reason.strip() or "no reason yet")
        for name, w in wishes.items()
        if w.role in POOLED
    }


def chosen_disks(view: SiteView, names: Iterable[str]) -> list[Disk]:
    """Those of these disks that are known, each once, in the order named."""
    found = (view.known_disk(name) for name in names)
    return list(dict.fromkeys(disk for disk in found if disk is not None))


def choice_blockers(view: SiteView, names: list[str]) -> list[Note]:
    """What stands against taking these disks."""
    found: list[Note] = []
    if not names:
        found.append(
            Note(
                sentence="No disk is chosen.",
                about="disks",
                next_step="Choose fit disks of at least as many domains as copies.",
            )
        )
    if unknown := [name for name in names if view.known_disk(name) is None]:
        found.append(Note(sentence=f"There is no disk named {say_list(unknown)}.", about="disks"))
    return found + [note for disk in chosen_disks(view, names) if (note := disk_blocker(view, disk))]


def disk_blocker(view: SiteView, disk: Disk) -> Note | None:
    """What stands against pooling a disk."""
    node = view.nodes[disk.node]
    if disk.pool >= 0:
        return Note(
            sentence=f"{disk.name} is taken: it belongs to pool {view.pools[disk.pool].name}.", about="disks"
        )
    if disk.role in (Role.UNFIT, Role.BOOT):
        return Note(sentence=f"{disk.name} is not fit: {say_list(disk.why)}.", about="disks")
    if not disk.present:
        return Note(sentence=f"{disk.name} is missing from {node.name}.", about="disks")
    if node.contact != Contact.HEARD:
        return Note(
            sentence=f"{disk.name} cannot be prepared: {node.name} is not heard.",
            about="disks",
            next_step="Bring the node back, or leave its disks out.",
        )
    return None


def carries(disk: Disk, pool: str) -> bool:
    """Whether a disk is unfit only because it carries the pool's mark already: it was prepared, and its node
    has reported that.
    """
    return disk.role == Role.UNFIT and all(
        r.code == "marked" and folded(r.about) == folded(pool) for r in disk.reasons
    )


def serials_by_node(view: SiteView, disks: Iterable[Disk]) -> dict[int, list[str]]:
    """Serial numbers by node number."""
    found: dict[int, list[str]] = defaultdict(list)
    for disk in disks:
        found[view.nodes[disk.node].number].append(disk.serial)
    return dict(found)
