"""Adding disks to a pool. Its data levels itself onto them afterwards, in a change of its own."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace
from typing import ClassVar

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from foldbarn.changes.form_pool import disk_blocker, read_back
from foldbarn.changes.kind import Kind, Params, register
from foldbarn.changes.preview import LedgerOut, Note, PlannedStep, Preview, Row
from foldbarn.changes.runner import Run
from foldbarn.core.capacity import free_figure, pool_space
from foldbarn.core.errors import NotFound, NotPossible
from foldbarn.core.figures import Figure, Part, make_figure
from foldbarn.core.media import MEDIA_WORDS
from foldbarn.core.names import natural_key
from foldbarn.core.rebuild import LEVEL_TOLERANCE, estimate, imbalance, plan_levelling
from foldbarn.core.site import Disk, Pool, Role, SiteView
from foldbarn.core.units import say_count, say_list, say_size
from foldbarn.store.tables import DiskRow, PoolRow
from foldbarn.store.views import current_view


class GrowPoolParams(Params):
    """Disks by name, to join a pool."""

    pool: str
    disks: list[str]


@register
class GrowPool(Kind[GrowPoolParams]):
    """prepare (agents), check (read back), claim (ours): only then may strips be placed on them."""

    name: ClassVar[str] = "grow-pool"
    params: ClassVar[type[Params]] = GrowPoolParams
    inside: ClassVar[frozenset[str]] = frozenset({"claim"})

    def about(self, params: GrowPoolParams) -> str:
        return params.pool

    def touches(self, params: GrowPoolParams) -> str:
        return "disks"

    def preview(self, view: SiteView, params: GrowPoolParams) -> Preview:
        chosen = [view.disks_by_name[name] for name in dict.fromkeys(params.disks) if name in view.disks_by_name]
        preview = Preview(
            kind=self.name,
            title=f"Add {say_count(len(chosen), 'disk')} to {params.pool}",
            summary=f"From {say_count(len({d.node for d in chosen}), 'node')}. Nothing has been changed yet. Afterwards the pool levels itself.",
            revision=view.revision,
            steps=[
                PlannedStep(name="prepare", title="Prepare each disk", detail="The agents write the pool's mark and its metadata.", seconds=1),
                PlannedStep(name="check", title="Read the disks back", detail="Each must show the pool's mark before anything is placed on it.", seconds=1),
                PlannedStep(name="claim", title=f"{params.pool} takes them", detail="From here on they count, and data begins to level onto them."),
            ],
        )
        try:
            pool = view.pool(params.pool)
        except NotFound as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        unknown = [name for name in params.disks if name not in view.disks_by_name]
        if pool.forming:
            preview.blockers.append(Note(sentence=f"{pool.name} is still being formed.", about="pool"))
        if unknown:
            preview.blockers.append(Note(sentence=f"There is no disk named {say_list(unknown)}.", about="disks"))
        if not params.disks:
            preview.blockers.append(Note(sentence="No disk is chosen.", about="disks", next_step="Choose fit disks."))
        preview.blockers += [note for disk in chosen if (note := disk_blocker(view, disk))]
        if chosen and not preview.blockers:
            _effects(preview, view, pool, chosen)
        return preview.sealed()

    def step_prepare(self, run: Run[GrowPoolParams]) -> str:
        by_node = _serials(run)
        pool, mark = current_view().pool(run.params.pool).name, current_view().mark
        run.tell_nodes({node: {"kind": "prepare", "pool": pool, "site": mark, "disks": disks} for node, disks in by_node.items()})
        return f"{say_count(sum(map(len, by_node.values())), 'disk')} prepared on {say_count(len(by_node), 'node')}."

    def step_check(self, run: Run[GrowPoolParams]) -> str:
        read_back(run, _serials(run), current_view().pool(run.params.pool).name)
        return "Every disk shows the pool's mark."

    def step_claim(self, run: Run[GrowPoolParams], session: Session) -> str:
        pool = session.scalars(select(PoolRow).where(PoolRow.name.ilike(run.params.pool))).one()
        disks = list(session.scalars(select(DiskRow).where(DiskRow.name.in_(run.params.disks)).order_by(DiskRow.id).with_for_update()))
        taken = [d.name for d in disks if d.pool_id is not None]
        if taken or len(disks) != len(set(run.params.disks)):
            raise NotPossible(f"{say_list(sorted(taken, key=natural_key))} can no longer be taken.", next_step="Withdraw this change and preview again.")
        for disk in disks:
            # Since it was prepared, its node may have reported the mark of a pool that it did not belong to yet.
            disk.role, disk.pool_id, disk.reasons = Role.CAPACITY.value, pool.id, []
        pool.look_reason = f"{say_count(len(disks), 'disk')} joined it"
        return f"{pool.name} has {say_count(len(disks), 'disk')} more."

    def withdraw(self, run: Run[GrowPoolParams]) -> None:
        by_node = _serials(run, free=True)
        run.step = 99  # orders of its own
        run.tell_nodes({node: {"kind": "release", "disks": disks} for node, disks in by_node.items()})


def _serials(run: Run[GrowPoolParams], free: bool = False) -> dict[int, list[str]]:
    """Serial numbers of the disks by node; free: only of those that have not joined the pool yet."""
    view = current_view()
    found: dict[int, list[str]] = defaultdict(list)
    for name in run.params.disks:
        disk = view.disk(name)
        if not (free and disk.pool >= 0):
            found[view.nodes[disk.node].number].append(disk.serial)
    return dict(found)


def _effects(preview: Preview, view: SiteView, pool: Pool, disks: list[Disk]) -> None:
    """The pool before and after, and what would move: computed on the site as it would be."""
    numbers = {d.number for d in disks}
    row = view.pool_row(pool)
    grown = replace(view, disks=tuple(replace(d, pool=row, role=Role.CAPACITY) if d.number in numbers else d for d in view.disks))
    before, after = pool_space(view, pool), pool_space(grown, pool)
    moves = plan_levelling(grown, pool, seed=1) if imbalance(grown, pool) > LEVEL_TOLERANCE else None
    guess = estimate(grown, moves, pool.extent_bytes) if moves is not None else None
    raw = sum(d.size_bytes for d in disks)
    added = [Part("+", f"{pool.name} as it is", before.ledger.raw, "bytes"), Part("+", say_count(len(disks), "disk"), raw, "bytes")]
    preview.rows = [
        Row(label="Raw", before=Figure("Raw", before.ledger.raw, "bytes"), after=make_figure("Raw", "bytes", added)),
        Row(
            label="Usable",
            before=Figure("Usable", before.usable * pool.extent_bytes, "bytes"),
            after=Figure("Usable", after.usable * pool.extent_bytes, "bytes"),
        ),
        Row(label="Free", before=free_figure(pool, before), after=free_figure(pool, after)),
        Row(label="Data to move", after=Figure("Data to move", guess.bytes_moved if guess else 0, "bytes")),
    ]
    preview.ledgers = [LedgerOut.of("after", after.ledger), LedgerOut.of("before", before.ledger)]
    if guess and moves is not None:
        preview.moves_bytes, preview.seconds, preview.bottleneck = guess.bytes_moved, guess.seconds, guess.bottleneck
        names = {d.number: d.name for d in view.disks}
        for to, into in ((moves.to, preview.arriving), (moves.leaves, preview.leaving)):
            values, counts = np.unique(to, return_counts=True)
            into.update({names[n]: c * pool.extent_bytes for n, c in zip(values.tolist(), counts.tolist(), strict=True) if n in names})
    preview.protection = "No extent has fewer copies at any step than before it."
    stranded = after.ledger.stranded - before.ledger.stranded
    if stranded > raw // 20:
        level = pool.usual.level
        words = f"{say_size(stranded)} of the {say_size(raw)} cannot be used, because the {level}s are uneven."
        preview.warnings.append(Note(sentence=words, next_step=f"Add disks in the smaller {level}s."))
    kinds = {MEDIA_WORDS[view.disks[r].media] for r in view.in_pool(pool).tolist()}
    if strange := sorted({MEDIA_WORDS[d.media] for d in disks} - kinds):
        words = f"{say_list(strange)} would join {say_list(sorted(kinds))}; every volume will be as slow as the slowest."
        preview.warnings.append(Note(sentence=words))
    preview.warnings += [Note(sentence=f"{d.name} needs a look: {say_list(list(d.watch))}.") for d in disks if d.watch]
