"""Adding disks to a pool. Its data levels itself onto them afterwards, in a change of its own."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview, Row
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import (
    OverrideIn,
    bind,
    check_unchanged,
    choice_blockers,
    chosen_disks,
    meant_disks,
    overrides_of,
    prepare,
    read_back,
    release,
    serials_by_node,
    sizes_of,
)
from foldbarn.changes.kinds.effects import (
    NO_FEWER_COPIES,
    capacity_row,
    role_rows,
    tell_capacity,
    tell_moves,
    with_disks,
)
from foldbarn.core.capacity import pool_space
from foldbarn.core.errors import BarnError, NotFound, NotPossible, Overtaken
from foldbarn.core.figures import Figure
from foldbarn.core.levelling import LEVEL_TOLERANCE, above_share, imbalance, plan_levelling
from foldbarn.core.media import classes_of
from foldbarn.core.moves import NO_MOVES
from foldbarn.core.names import natural_key
from foldbarn.core.roles import Assignment, Serves, assign_roles
from foldbarn.core.site import Disk, Pool, Role, SiteView, Tier
from foldbarn.core.touching import Meant, Thing, Touch, alone, shared
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store import disks as store_disks
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


@register
class GrowPool(Kind[GrowPoolParams]):
    """prepare (agents), check (read back), claim (ours): only then may strips be placed on them; bind
    (agents, where there is cache).
    """

    name: ClassVar[str] = "grow-pool"
    params: ClassVar[type[Params]] = GrowPoolParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"claim"})

    def about(self, params: GrowPoolParams) -> str:
        return params.pool

    def meant(self, view: SiteView, params: GrowPoolParams) -> Meant:
        return Meant(pools=(view.pool(params.pool),), disks=tuple(view.disk(n) for n in params.disks))

    def touches(self, view: SiteView, params: GrowPoolParams) -> list[Touch]:
        meant = self.meant(view, params)
        return [
            shared(Thing.POOL, meant.pools[0].number),
            *(alone(Thing.DISK, d.number) for d in meant.disks),
        ]

    def preview(self, view: SiteView, params: GrowPoolParams) -> Preview:
        chosen = chosen_disks(view, params.disks)
        preview = Preview(
            kind=self.name,
            title=f"Add {say_count(len(chosen), 'disk')} to {params.pool}",
            summary=f"From {say_count(len({d.node for d in chosen}), 'node')}.",
            revision=view.revision,
            disk_sizes=sizes_of(chosen),
            steps=[
                PlannedStep(
                    name="prepare",
                    title="Prepare each disk",
                    detail="The agents write the pool's mark and its metadata.",
                    seconds=1,
                ),
                PlannedStep(
                    name="check",
                    title="Read the disks back",
                    detail="Each must show the pool's mark before anything is placed on it.",
                    seconds=1,
                ),
                PlannedStep(
                    name="claim",
                    title=f"{params.pool} takes them",
                    detail="From here on they count, and data begins to level onto them.",
                ),
            ],
        )
        try:
            pool = view.pool(params.pool)
        except NotFound as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        if pool.forming:
            preview.blockers.append(Note(sentence=f"{pool.name} is still being formed.", about="pool"))
        preview.blockers += choice_blockers(view, params.disks)
        assigned: list[Assignment] = []
        try:
            assigned = roles_of_new(view, pool, chosen, params.serves, params.overrides)
        except BarnError as error:
            preview.blockers.append(Note.of(error))
        if any(a.role == Role.CACHE for a in assigned) or any(
            d.role == Role.CACHE for d in view.all_of(pool)
        ):
            preview.steps.append(
                PlannedStep(
                    name="bind",
                    title="Bind cache devices to disks",
                    detail="Evenly, within each node.",
                    seconds=1,
                )
            )
        preview.roles = role_rows(view, assigned)
        if assigned and not preview.blockers:
            _effects(preview, view, pool, assigned)
        return preview.sealed()

    def step_prepare(self, run: Run[GrowPoolParams]) -> str:
        pool = run.pool(current_view(), run.params.pool)
        if pool.closing:
            raise Overtaken(f"{pool.name} is being deleted.")
        check_unchanged(run, run.params.disks, pool.name)
        by_node = _serials(run)
        prepare(run, by_node, pool.name, pool.encrypted)
        return (
            f"{say_count(sum(map(len, by_node.values())), 'disk')} prepared on "
            f"{say_count(len(by_node), 'node')}."
        )

    def step_check(self, run: Run[GrowPoolParams]) -> str:
        pool = run.pool(current_view(), run.params.pool)
        read_back(run, _serials(run), pool.name, pool.encrypted)
        return "Every disk shows the pool's mark."

    def step_claim(self, run: Run[GrowPoolParams], session: Session) -> str:
        params, view = run.params, current_view()
        pool = store_pools.locked(session, run.pool(view, params.pool).number)
        if pool is None:
            raise NotPossible(f"{params.pool} is no more.", next_step="Withdraw this change.")
        if pool.closing:
            raise NotPossible(f"{pool.name} is being deleted.", next_step="Withdraw this change.")
        check_unchanged(run, params.disks, pool.name)
        chosen = meant_disks(run, view, params.disks)
        rows = store_disks.locked(session, [d.number for d in chosen])
        if taken := [d.name for d in rows if d.pool_id is not None]:
            raise NotPossible(
                f"{say_list(sorted(taken, key=natural_key))} can no longer be taken.",
                next_step="Withdraw this change and preview again.",
            )
        overrides = {run.disk(view, name).name: one for name, one in params.overrides.items()}
        roles = {
            a.disk: a for a in roles_of_new(view, view.pool(pool.name), chosen, params.serves, overrides)
        }
        for disk in rows:
            store_disks.join(disk, pool.id, roles[disk.name])
        store_pools.look(session, [pool.id], f"{say_count(len(rows), 'disk')} joined it")
        return f"{pool.name} has {say_count(len(rows), 'disk')} more."

    def step_bind(self, run: Run[GrowPoolParams]) -> str:
        return bind(run, run.pool(current_view(), run.params.pool).name)

    def withdraw(self, run: Run[GrowPoolParams]) -> None:
        run.refuse_once("done", "claim", "the disks have joined; retire them instead")
        release(run, _serials(run, free=True))


def _serials(run: Run[GrowPoolParams], free: bool = False) -> dict[int, list[str]]:
    """Serial numbers of the disks by node; free: only of those that have not joined the pool yet."""
    view = current_view()
    disks = meant_disks(run, view, run.params.disks)
    return serials_by_node(view, (d for d in disks if not (free and d.pool >= 0)))


def _effects(preview: Preview, view: SiteView, pool: Pool, assigned: list[Assignment]) -> None:
    """The pool before and after, and what would move: computed on the site as it would be."""
    row = view.pool_row(pool)
    disks = [view.disk(a.disk) for a in assigned]
    grown = with_disks(
        view, (replace(d, pool=row, role=a.role, tier=a.tier) for d, a in zip(disks, assigned, strict=True))
    )
    moves = plan_levelling(grown, pool, seed=1) if imbalance(grown, pool) > LEVEL_TOLERANCE else NO_MOVES
    tell_capacity(preview, view, grown, pool)
    tell_moves(preview, grown, pool, moves)
    then = (
        "Afterwards the pool levels itself onto them."
        if len(moves)
        else "Afterwards it is level enough: nothing moves."
    )
    preview.summary = f"{preview.summary} {then}"
    above = above_share(grown, pool)
    preview.rows += [
        Row(label="Data to move", after=Figure("Data to move", preview.moves_bytes, "bytes")),
        Row(
            label="Above its disks' shares",
            after=Figure("Above its disks' shares", above * pool.extent_bytes, "bytes"),
        ),
    ]
    preview.capacity = [
        capacity_row(view, pool, "as it is"),
        capacity_row(grown, pool, f"{pool.name} takes them"),
    ]
    preview.protection = NO_FEWER_COPIES
    raw = sum(d.size_bytes for d in disks)
    stranded = pool_space(grown, pool).ledger.stranded - pool_space(view, pool).ledger.stranded
    if stranded > raw // 20:
        level = pool.usual.level
        words = (
            f"{say_size(stranded)} of the {say_size(raw)} cannot be used, because the {level}s are uneven."
        )
        preview.warnings.append(Note(sentence=words, next_step=f"Add disks in the smaller {level}s."))
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
        preview.warnings.append(Note(sentence=words))
    preview.warnings += [
        Note(sentence=f"{d.name} needs a look: {say_list(list(d.watch))}.") for d in disks if d.watch
    ]
