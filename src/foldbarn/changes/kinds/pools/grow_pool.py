"""Adding disks to a pool. Its data levels itself onto them afterwards, in a change of its own."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.effects import AnyEffect, Note, Row, Sums, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.disks import OverrideIn, choice_blockers, chosen_disks, overrides_of
from foldbarn.changes.kinds.pools.effects import (
    NO_FEWER_COPIES,
    moved,
    roles,
    room_before_and_after,
    said_capacity,
    with_disks,
)
from foldbarn.changes.kinds.pools.joining import (
    Bind,
    Given,
    Taken,
    check_unchanged,
    given,
    join_pool,
    prepare_steps,
    taken,
)
from foldbarn.core.errors import BarnError, NotFound, NotPossible
from foldbarn.core.figures import Figure
from foldbarn.core.moving.levelling import LEVEL_TOLERANCE, above_share, imbalance, plan_levelling
from foldbarn.core.moving.moves import NO_MOVES
from foldbarn.core.pools.capacity import pool_space
from foldbarn.core.pools.media import classes_of
from foldbarn.core.pools.roles import Assignment, Serves, assign_roles
from foldbarn.core.site import Disk, Pool, Role, SiteView, Tier
from foldbarn.core.touching import Meant, Thing, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import pools as store_pools
from foldbarn.store.database import Session
from foldbarn.store.views import current_view


class GrowPoolParams(Params):
    """Disks by name, to join a pool. serves, overrides: as in forming a pool."""

    pool: str
    disks: list[str]
    serves: Serves = "cache"
    overrides: dict[str, OverrideIn] = Field(default_factory=dict)


def roles_of_new(
    view: SiteView, pool: Pool, disks: list[Disk], serves: Serves, overrides: dict[str, OverrideIn]
) -> list[Assignment]:
    """Roles of disks that join: by the rule for all disks of the pool together; those it has already keep
    theirs. Raises NotPossible.
    """
    old = view.all_of(pool)
    if any(d.tier == Tier.FAST for d in old):
        serves = "fast tier"
    elif old and not any(d.role == Role.CACHE for d in old):
        classes = classes_of((d.media, d.bus) for d in [*old, *disks])
        had, new_classes = classes[: len(old)], classes[len(old) :]
        if len(set(had)) == 1 and all(c >= had[0] for c in new_classes):
            serves = "capacity"  # slower disks do not turn what a pool already has into cache
    new = {d.name for d in disks}
    return [a for a in assign_roles([*old, *disks], serves, overrides_of(overrides)) if a.disk in new]


class Join(Inside):
    """Prepared disks belong to a pool (by number) from here on, in the roles that were planned."""

    name: ClassVar[str] = "join"
    no_way_back: ClassVar = "done"
    why_no_way_back: ClassVar[str] = "the disks have joined; retire them instead"
    pool: int
    disks: tuple[Taken, ...]
    roles: tuple[Given, ...]

    def carry_out(self, run: Run, session: Session) -> str:
        pool = store_pools.locked(session, self.pool)
        if pool is None or pool.closing:
            words = "The pool is gone." if pool is None else f"{pool.name} is being deleted."
            raise NotPossible(words, next_step="Withdraw this change.")
        check_unchanged(current_view(), self.disks, pool.name)
        joined = join_pool(session, pool.id, self.roles)
        store_pools.look(session, [pool.id], f"{say_count(joined, 'disk')} joined it")
        return f"{pool.name} has {say_count(joined, 'disk')} more."


@register
class GrowPool(Kind[GrowPoolParams]):
    """prepare (agents), read back, join (ours): only then may strips be placed on them; bind (agents, where
    there is cache).
    """

    name: ClassVar[str] = "grow-pool"
    params: ClassVar[type[Params]] = GrowPoolParams

    def plan(self, view: SiteView, params: GrowPoolParams) -> Plan:
        chosen = chosen_disks(view, params.disks)
        title = f"Add {say_count(len(chosen), 'disk')} to {params.pool}"
        summary = f"From {say_count(len({d.node for d in chosen}), 'node')}."
        try:
            pool = view.pool(params.pool)
        except NotFound as error:
            return Plan(title=title, about=params.pool, summary=summary, blockers=[Note.of(error)])
        blockers: list[Note] = []
        if pool.forming:
            blockers.append(Note(sentence=f"{pool.name} is still being formed.", about="pool"))
        if pool.closing:
            blockers.append(Note(sentence=f"{pool.name} is being deleted.", about="pool"))
        blockers += choice_blockers(view, params.disks)
        assigned: list[Assignment] = []
        try:
            assigned = roles_of_new(view, pool, chosen, params.serves, params.overrides)
        except BarnError as error:
            blockers.append(Note.of(error))
        effects: list[AnyEffect] = [roles(view, assigned)]
        warnings: list[Note] = []
        if assigned and not blockers:
            grown = _grown(view, pool, assigned)
            then, told = _effects(view, grown, pool)
            summary = f"{summary} {then}"
            effects += told
            warnings = _warnings(view, grown, pool, assigned)
        return Plan(
            title=title,
            about=params.pool,
            summary=summary,
            steps=_steps(view, pool, chosen, assigned),
            effects=effects,
            touches=[shared(Thing.POOL, pool.number), *(alone(Thing.DISK, d.number) for d in chosen)],
            meant=Meant(pools=(pool,), disks=tuple(chosen)),
            blockers=blockers,
            warnings=warnings,
        )


def _steps(
    view: SiteView, pool: Pool, chosen: Sequence[Disk], assigned: Sequence[Assignment]
) -> list[Planned]:
    disks = taken(chosen)
    found = [
        *prepare_steps(pool.number, disks),
        Planned(
            Join(pool=pool.number, disks=disks, roles=given(view, assigned)),
            f"{pool.name} takes them",
            "From here on they count, and data begins to level onto them.",
        ),
    ]
    in_use = [a.role for a in assigned] + [d.role for d in view.all_of(pool)]
    if Role.CACHE in in_use:
        bind = Bind(pool=pool.number)
        found.append(Planned(bind, "Bind cache devices to disks", "Evenly, within each node.", seconds=1))
    return found


def _grown(view: SiteView, pool: Pool, assigned: Sequence[Assignment]) -> SiteView:
    """The site once the disks have joined."""
    row = view.pool_row(pool)
    return with_disks(
        view, (replace(view.disk(a.disk), pool=row, role=a.role, tier=a.tier) for a in assigned)
    )


def _effects(view: SiteView, grown: SiteView, pool: Pool) -> tuple[str, list[AnyEffect]]:
    """What follows, in a sentence, and the pool before and after: computed on the site as it would be."""
    uneven = imbalance(grown, pool) > LEVEL_TOLERANCE
    moves = plan_levelling(grown, pool, seed=1) if uneven else NO_MOVES
    then = (
        "Afterwards the pool levels itself onto them."
        if len(moves)
        else "Afterwards it is level enough: nothing moves."
    )
    above = above_share(grown, pool) * pool.strip_bytes
    to_move = len(moves) * pool.strip_bytes
    rows = [
        Row(label="Data to move", after=Figure("Data to move", to_move, "bytes")),
        Row(label="Above its disks' shares", after=Figure("Above its disks' shares", above, "bytes")),
    ]
    rooms = [("as it is", view, pool), (f"{pool.name} takes them", grown, pool)]
    return then, [
        *room_before_and_after(view, grown, pool),
        Sums(pool=pool.name, rows=rows),
        *moved(grown, pool, moves),
        said_capacity(rooms),
        NO_FEWER_COPIES,
    ]


def _warnings(view: SiteView, grown: SiteView, pool: Pool, assigned: Sequence[Assignment]) -> list[Note]:
    found = []
    disks = [view.disk(a.disk) for a in assigned]
    raw = sum(d.size_bytes for d in disks)
    stranded = pool_space(grown, pool).ledger.stranded - pool_space(view, pool).ledger.stranded
    if stranded > raw // 20:
        level = pool.usual.level
        words = (
            f"{say_size(stranded)} of the {say_size(raw)} cannot be used, because the {level}s are uneven."
        )
        found.append(warning("stranded", words, next_step=f"Add disks in the smaller {level}s."))
    old = [d for d in view.all_of(pool) if d.role == Role.CAPACITY]
    bulk = [
        d for d, a in zip(disks, assigned, strict=True) if a.role == Role.CAPACITY and a.tier == Tier.BULK
    ]
    classes = classes_of((d.media, d.bus) for d in [*old, *bulk])
    had, new = set(classes[: len(old)]), set(classes[len(old) :])
    if strange := sorted(new - had):
        words = (
            f"{say_list([c.words for c in strange])} would join "
            f"{say_list([c.words for c in sorted(had)])}; every volume will be as slow as the slowest."
        )
        found.append(warning("other-media", words))
    return found + looks_needed(disks)


def looks_needed(disks: Sequence[Disk]) -> list[Note]:
    """Of the disks that are to be taken, those that someone should look at."""
    return [
        warning("needs-a-look", f"{d.name} needs a look: {say_list(list(d.watch))}.", about=d.name)
        for d in disks
        if d.watch
    ]
