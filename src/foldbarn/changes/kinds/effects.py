"""What several kinds of change say alike in their previews: moves, capacity before and after, roles."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np

from foldbarn.changes.engine.preview import CapacityRow, FlowRow, LedgerOut, Preview, RoleRow, Row
from foldbarn.core.capacity import free_figure, pool_space
from foldbarn.core.figures import Figure
from foldbarn.core.media import class_of
from foldbarn.core.moves import Estimate, Moves, estimate
from foldbarn.core.roles import Assignment, bind_cache
from foldbarn.core.site import Disk, Pool, Role, SiteView

NO_FEWER_COPIES = (
    "No extent has fewer copies at any step than before it: each new copy is whole before the old "
    "one is dropped."
)


def with_disks(view: SiteView, changed: Iterable[Disk]) -> SiteView:
    """The site as it would be with these disks as they are here."""
    by_number = {d.number: d for d in changed}
    return replace(view, disks=tuple(by_number.get(d.number, d) for d in view.disks))


def estimate_of(view: SiteView, pool: Pool, moves: Moves, lost: bool = False) -> Estimate:
    """How long moves take at the rate the pool allows for what is lost, or for levelling and draining."""
    return estimate(view, moves, pool.extent_bytes, pool.rebuild_rate if lost else pool.level_rate)


def tell_moves(preview: Preview, view: SiteView, pool: Pool, moves: Moves, lost: bool = False) -> None:
    """Adds moves to a preview: bytes by disk and between domains, and how long they take."""
    guess = estimate_of(view, pool, moves, lost)
    preview.moves_bytes += guess.bytes_moved
    preview.seconds = (preview.seconds or 0.0) + guess.seconds
    preview.bottleneck = guess.bottleneck or preview.bottleneck
    names = [*(d.name for d in view.disks), ""]
    for numbers, into in ((moves.to, preview.arriving), (moves.leaves, preview.leaving)):
        rows, counts = np.unique(view.row_of_number[numbers], return_counts=True)
        for row, count in zip(rows.tolist(), counts.tolist(), strict=True):
            if names[row]:
                into[names[row]] = into.get(names[row], 0) + count * pool.extent_bytes
    level = pool.usual.level
    domains = [*view.domain_names(level), ""]
    domain_of = np.append(view.domain_of(level), len(domains) - 1)
    pairs = np.stack([domain_of[view.row_of_number[moves.leaves]], domain_of[view.row_of_number[moves.to]]])
    found, counts = np.unique(pairs, axis=1, return_counts=True)
    preview.domain_level = level.value
    preview.flows += [
        FlowRow(source=domains[a], target=domains[b], bytes=n * pool.extent_bytes)
        for a, b, n in zip(found[0].tolist(), found[1].tolist(), counts.tolist(), strict=True)
    ]


def capacity_row(view: SiteView, pool: Pool, after: str) -> CapacityRow:
    space = pool_space(view, pool)
    usable = space.usable + (space.fast.usable if space.fast else 0)
    free = space.free + (space.fast.free if space.fast else 0)
    return CapacityRow(
        after=after,
        pool=pool.name,
        raw=space.ledger.raw,
        usable=usable * pool.extent_bytes,
        free=free * pool.extent_bytes,
    )


def tell_capacity(
    preview: Preview, before: SiteView, after: SiteView, pool: Pool, new_pool: Pool | None = None
) -> None:
    """Adds rows and ledgers of a pool before and after. new_pool: the pool as it is afterwards, where that
    changes.
    """
    new_pool = new_pool or pool
    old, new = pool_space(before, pool), pool_space(after, new_pool)
    extent = pool.extent_bytes
    preview.rows += [
        Row(
            label="Raw",
            before=Figure("Raw", old.ledger.raw, "bytes"),
            after=Figure("Raw", new.ledger.raw, "bytes"),
        ),
        Row(
            label="Usable",
            before=Figure("Usable", old.usable * extent, "bytes"),
            after=Figure("Usable", new.usable * extent, "bytes"),
        ),
        Row(label="Free", before=free_figure(pool, old), after=free_figure(new_pool, new)),
        Row(label="Full", before=Figure("Full", old.full, "share"), after=Figure("Full", new.full, "share")),
    ]
    preview.ledgers += [
        LedgerOut.of(f"{pool.name} after", new.ledger),
        LedgerOut.of(f"{pool.name} before", old.ledger),
    ]


def role_rows(view: SiteView, assigned: Sequence[Assignment]) -> list[RoleRow]:
    """Roles as a table, with what serves what."""
    by_name = {d.name: d for d in view.disks}
    by_role = {
        role: [by_name[a.disk] for a in assigned if a.role == role] for role in (Role.CACHE, Role.CAPACITY)
    }
    bound = bind_cache(by_role[Role.CACHE], by_role[Role.CAPACITY])
    names = {d.number: d.name for d in view.disks}
    serves = {device: list(bound.values()).count(device) for device in set(bound.values())}
    return [
        RoleRow(
            disk=a.disk,
            node=view.nodes[disk.node].name,
            media=class_of(disk.media, disk.bus).words,
            size_bytes=disk.size_bytes,
            role=a.role.value,
            tier=a.tier.value,
            reason=a.reason,
            by_rule=a.by_rule.value,
            overridden=a.overridden,
            bound_to=names.get(bound.get(disk.number, 0), ""),
            serves=serves.get(disk.number, 0),
        )
        for a in assigned
        for disk in [by_name[a.disk]]
    ]
