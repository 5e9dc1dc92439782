"""Effects that several kinds of change have alike: moves, capacity before and after, roles."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from foldbarn.changes.engine.effects import (
    AnyEffect,
    Capacity,
    CapacityRow,
    FlowRow,
    Ledgers,
    Moved,
    OnDisks,
    Promise,
    RoleRow,
    Roles,
    Row,
    Sums,
)
from foldbarn.core.figures import Figure, Unit
from foldbarn.core.moving.moves import Moves
from foldbarn.core.moving.readings import Estimate, estimate
from foldbarn.core.pools.capacity import free_figure, pool_space
from foldbarn.core.pools.media import class_of
from foldbarn.core.pools.printing import print_ledger
from foldbarn.core.pools.roles import Assignment, bind_cache
from foldbarn.core.site import Disk, Pool, Role, SiteView, Tier

NO_FEWER_COPIES = Promise(
    sentence="No extent has fewer copies at any step than before it: each new copy is whole before the old "
    "one is dropped."
)


def with_disks(view: SiteView, changed: Iterable[Disk]) -> SiteView:
    """The site as it would be with these disks as they are here."""
    by_number = {d.number: d for d in changed}
    return replace(view, disks=tuple(by_number.get(d.number, d) for d in view.disks))


def estimate_of(view: SiteView, pool: Pool, moves: Moves, lost: bool = False) -> Estimate:
    """How long moves take at the rate the pool allows for what is lost, or for levelling and draining."""
    return estimate(view, moves, pool.strip_bytes, pool.rebuild_rate if lost else pool.level_rate)


@dataclass(slots=True)
class Moving:
    """Moves of one pool or several, summed up: bytes, seconds, and where they go."""

    bytes: int = 0
    seconds: float = 0.0
    bottleneck: str = ""
    level: str = ""
    arriving: dict[str, int] = field(default_factory=dict)  # bytes by disk name
    leaving: dict[str, int] = field(default_factory=dict)
    flows: list[FlowRow] = field(default_factory=list)

    def add(self, view: SiteView, pool: Pool, moves: Moves, *, lost: bool = False) -> float:
        """Adds the moves of a pool; returns the seconds that they take at the least. lost: they are written
        again, at the rate for that.
        """
        guess = estimate_of(view, pool, moves, lost)
        self.bytes += guess.bytes_moved
        self.seconds += guess.seconds
        self.bottleneck = guess.bottleneck or self.bottleneck
        names = [*(d.name for d in view.disks), ""]
        for numbers, into in ((moves.to, self.arriving), (moves.leaves, self.leaving)):
            rows, counts = np.unique(view.row_of_number[numbers], return_counts=True)
            for row, count in zip(rows.tolist(), counts.tolist(), strict=True):
                if names[row]:
                    into[names[row]] = into.get(names[row], 0) + count * pool.strip_bytes
        level = pool.usual.level
        domains = [*view.domain_names(level), ""]
        domain_of = np.append(view.domain_of(level), len(domains) - 1)
        ends = (moves.leaves, moves.to)
        pairs = np.stack([domain_of[view.row_of_number[numbers]] for numbers in ends])
        found, counts = np.unique(pairs, axis=1, return_counts=True)
        self.level = level.value
        self.flows += [
            FlowRow(source=domains[a], target=domains[b], bytes=n * pool.strip_bytes)
            for a, b, n in zip(found[0].tolist(), found[1].tolist(), counts.tolist(), strict=True)
        ]
        return guess.seconds

    def effects(self) -> list[AnyEffect]:
        return [
            Moved(
                bytes=self.bytes,
                seconds=self.seconds,
                bottleneck=self.bottleneck,
                level=self.level,
                flows=self.flows,
            ),
            OnDisks(arriving=self.arriving, leaving=self.leaving),
        ]


def moved(view: SiteView, pool: Pool, moves: Moves, *, lost: bool = False) -> list[AnyEffect]:
    """The effects of the moves of one pool."""
    told = Moving()
    told.add(view, pool, moves, lost=lost)
    return told.effects()


def said_capacity(rows: Sequence[tuple[str, SiteView, Pool]]) -> Capacity:
    """A pool's room at each of these times: when, the site then, the pool then."""
    return Capacity(rows=[capacity_row(view, pool, after) for after, view, pool in rows])


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


def room_before_and_after(
    before: SiteView, after: SiteView, pool: Pool, new_pool: Pool | None = None
) -> list[AnyEffect]:
    """Sums and ledgers of a pool before and after. new_pool: the pool as it is afterwards, where that
    changes.
    """
    new_pool = new_pool or pool
    old, new = pool_space(before, pool), pool_space(after, new_pool)

    def row(label: str, unit: Unit, was: float, becomes: float) -> Row:
        return Row(label=label, before=Figure(label, was, unit), after=Figure(label, becomes, unit))

    extent = pool.extent_bytes
    rows = [
        row("Raw", "bytes", old.ledger.raw, new.ledger.raw),
        row("Usable", "bytes", old.usable * extent, new.usable * extent),
        Row(label="Free", before=free_figure(pool, old), after=free_figure(new_pool, new)),
        row("Full", "share", old.full, new.full),
    ]
    ledgers = [
        print_ledger(f"{pool.name} after", new.ledger),
        print_ledger(f"{pool.name} before", old.ledger),
    ]
    return [Sums(pool=pool.name, rows=rows), Ledgers(ledgers=ledgers)]


def roles(view: SiteView, assigned: Sequence[Assignment]) -> Roles:
    """What each disk becomes, with what serves what."""
    by_name = {d.name: d for d in view.disks}
    by_role = {
        role: [by_name[a.disk] for a in assigned if a.role == role] for role in (Role.CACHE, Role.CAPACITY)
    }
    bound = bind_cache(by_role[Role.CACHE], by_role[Role.CAPACITY])
    names = {d.number: d.name for d in view.disks}
    serves = {device: list(bound.values()).count(device) for device in set(bound.values())}
    rows = [
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
    return Roles(rows=rows)


def room_rows(view: SiteView, after: SiteView, pool: Pool, tiers: Iterable[Tier]) -> list[Row]:
    """What is free in some tiers of a pool and how full they are, before and after."""
    rows = []
    for tier in sorted(tiers):
        was, becomes = (pool_space(site, pool).of(tier) for site in (view, after))
        where = pool.name if len(view.tiers_of(pool)) == 1 else f"{pool.name}, {tier.value} tier"
        free = Row(label=f"Free in {where}", before=free_figure(pool, was), after=free_figure(pool, becomes))
        full = [Figure("full", of.full, "share") for of in (was, becomes)]
        rows += [free, Row(label=f"{where} full", before=full[0], after=full[1])]
    return rows
