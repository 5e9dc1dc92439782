"""What a disk holds, and what comes of it when the disk goes for good now."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from foldbarn.core.moving.rebuild import plan_rebuild
from foldbarn.core.pools.roles import binding_of
from foldbarn.core.site import Disk, Ply, Role, SiteView
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.core.volumes.loss import CacheLoss, cache_losses


@dataclass(frozen=True, slots=True)
class Held:
    """What a disk holds of a ply, and, without it, extents by what is left of them.

    volume: its name. strips: on the disk; sourced: those of them whose extent can be read without it.
    unreadable: extents that cannot, some of which may not be readable now either; bare: those that can, with
    no further strip to lose.
    """

    volume: str
    strips: int
    sourced: int
    unreadable: int
    bare: int


@dataclass(frozen=True, slots=True)
class DiskLoss:
    """held: by ply, in the order of the volumes. found, stuck: of the disk's strips that can be written again
    from others, those that would find a place elsewhere, and those that would not. cache: what a cache device
    takes with it.
    """

    held: tuple[Held, ...]
    found: int
    stuck: int
    cache: CacheLoss | None = None

    @property
    def strips(self) -> int:
        return sum(h.strips for h in self.held)

    @property
    def unreadable(self) -> int:
        return sum(h.unreadable for h in self.held)


def disk_loss(view: SiteView, disk: Disk) -> DiskLoss:
    """What comes of losing a disk for good now, beside whatever is away already."""
    row = view.row_of_number[disk.number]
    held = tuple(_held(view, int(row)))
    if disk.role == Role.CACHE:
        pool = view.pools[disk.pool]
        losses = cache_losses(view, pool, binding_of(view, pool))
        return DiskLoss(held, 0, 0, next((found for found in losses if found.device == disk.name), None))
    if disk.pool < 0 or not held:
        return DiskLoss(held, 0, 0)
    gone = replace(disk, present=False, given_up=True)
    after = replace(view, disks=(*view.disks[:row], gone, *view.disks[row + 1 :]))
    moves = plan_rebuild(after, view.pools[disk.pool], seed=1)
    found = int((moves.leaves == disk.number).sum())
    return DiskLoss(held, found, sum(h.sourced for h in held) - found)


def _held(view: SiteView, row: int) -> Iterator[Held]:
    for volume in view.volumes:
        for ply in volume.plies:
            if (found := _held_of(view, ply, row, volume.name)) is not None:
                yield found


def _held_of(view: SiteView, ply: Ply, row: int, volume: str) -> Held | None:
    rows = view.rows(ply)
    here = rows == row
    mine = here.any(axis=1)
    if not mine.any():
        return None
    present = np.append(view.disk_ready, False)[rows[mine]]
    without = (present & ~here[mine]).sum(axis=1)
    k = ply.scheme.k
    return Held(
        volume=volume,
        strips=int(here.sum()),
        sourced=int(here[mine][without >= k].sum()),
        unreadable=int((without < k).sum()),
        bare=int((without == k).sum()),
    )


def disk_loss_sentence(loss: DiskLoss, strip_bytes: int) -> str:
    """What its loss would mean, worst first."""
    if loss.cache is not None:
        left = f" Of {say_count(loss.cache.unreadable, 'extent')} no other copy can be read."
        return (
            f"It serves {say_count(len(loss.cache.disks), 'disk')}, and takes what it has not yet settled of "
            f"up to {say_count(loss.cache.extents, 'extent')} with it.{left if loss.cache.unreadable else ''}"
        )
    if not loss.strips:
        return "It holds no strip of a volume."
    words = []
    if loss.unreadable:
        names = say_list([h.volume for h in loss.held if h.unreadable])
        words.append(f"{say_count(loss.unreadable, 'extent')} of {names} could not be read without it.")
    else:
        words.append("Everything it holds can be read without it.")
    if loss.found:
        size = say_size(loss.found * strip_bytes)
        words.append(f"{say_count(loss.found, 'strip')}, {size}, would be written again elsewhere.")
    if loss.stuck:
        words.append(f"{say_count(loss.stuck, 'strip')} would find no place.")
    return " ".join(words)
