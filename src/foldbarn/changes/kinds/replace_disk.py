"""Replacing a disk by another: the new one joins, takes over what the old one holds, and the old one goes."""

from __future__ import annotations

from dataclasses import replace
from typing import ClassVar

import numpy as np

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.moving import stop_moving
from foldbarn.changes.engine.preview import Note, PlannedStep, Preview
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import (
    bind,
    check_unchanged,
    choice_blockers,
    disk_blocker,
    prepare,
    read_back,
    release,
    serials_by_node,
    sizes_of,
)
from foldbarn.changes.kinds.effects import NO_FEWER_COPIES, with_disks
from foldbarn.changes.kinds.leaving import (
    blank,
    call_off,
    drain,
    leaving_touches,
    mark,
    part,
    plan_leaving,
    pools_of,
    tell_leaving,
    unreadable_blockers,
)
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.media import alike, class_of
from foldbarn.core.protection import Level
from foldbarn.core.site import Disk, Pool, Role, SiteView
from foldbarn.core.touching import Meant, Touch
from foldbarn.core.units import say_list, say_size
from foldbarn.store import disks as store_disks
from foldbarn.store.database import Session
from foldbarn.store.views import current_view


class ReplaceDiskParams(Params):
    """The disk that goes, and the one that takes its place. Names."""

    disk: str
    by: str


@register
class ReplaceDisk(Kind[ReplaceDiskParams]):
    """prepare, check (agents), swap (ours), drain (agents), release (agents), part (ours), bind (agents)."""

    name: ClassVar[str] = "replace-disk"
    params: ClassVar[type[Params]] = ReplaceDiskParams
    exact: ClassVar[bool] = False
    inside: ClassVar[frozenset[str]] = frozenset({"swap", "part"})

    def about(self, params: ReplaceDiskParams) -> str:
        return params.disk

    def meant(self, view: SiteView, params: ReplaceDiskParams) -> Meant:
        return Meant(disks=(view.disk(params.disk), view.disk(params.by)))

    def touches(self, view: SiteView, params: ReplaceDiskParams) -> list[Touch]:
        disks = self.meant(view, params).disks
        return leaving_touches(pools_of(view, disks), disks)

    def preview(self, view: SiteView, params: ReplaceDiskParams) -> Preview:
        preview = Preview(
            kind=self.name,
            title=f"Replace {params.disk} by {params.by or 'another disk'}",
            summary="",
            revision=view.revision,
            steps=[],
            protection=NO_FEWER_COPIES,
        )
        try:
            old = view.disk(params.disk)
            if old.pool < 0:
                raise NotPossible(
                    f"{old.name} is in no pool.", about="disk", next_step="There is nothing to take over."
                )
            if not params.by:
                raise NotPossible(
                    "Choose the disk that takes its place.", about="by", next_step=_candidates(view, old)
                )
            new = view.disk(params.by)
        except BarnError as error:
            preview.blockers.append(Note.of(error))
            return preview.sealed()
        pool = view.pools[old.pool]
        preview.disk_sizes = sizes_of([new])
        preview.blockers += [
            note.model_copy(update={"about": "by"}) for note in choice_blockers(view, [new.name])
        ]
        if old.retiring:
            preview.blockers.append(Note(sentence=f"{old.name} is being emptied already.", about="disk"))
        holds = old.role == Role.CAPACITY
        preview.steps = [
            PlannedStep(
                name="prepare",
                title=f"Prepare {new.name}",
                detail="Its agent writes the pool's mark.",
                seconds=1,
            ),
            PlannedStep(
                name="check",
                title="Read it back",
                detail="It must show the pool's mark before anything is placed on it.",
                seconds=1,
            ),
            PlannedStep(
                name="swap",
                title=f"{new.name} takes the place of {old.name}",
                detail=f"From here on {old.name} gets nothing new.",
            ),
            *(
                [
                    PlannedStep(
                        name="drain",
                        title=f"Move what {old.name} holds",
                        detail=f"To {new.name} as far as it has room.",
                    )
                ]
                if holds
                else []
            ),
            PlannedStep(
                name="release",
                title=f"Blank {old.name}",
                detail="If it can be reached.",
                seconds=1,
                can_withdraw=False,
            ),
            PlannedStep(
                name="part", title=f"Let {old.name} go", detail="It may be pulled.", can_withdraw=False
            ),
        ]
        if any(d.role == Role.CACHE for d in view.all_of(pool)):
            preview.steps.append(
                PlannedStep(name="bind", title="Bind cache devices anew", seconds=1, can_withdraw=False)
            )
        if holds and not preview.blockers:
            preview.blockers += unreadable_blockers(view, [old])
            found = plan_leaving(view, pool, [old], [_joined(view, pool, old, new)])
            tell_leaving(preview, view, found, f"{old.name} let go")
            next(s for s in preview.steps if s.name == "drain").seconds = preview.seconds
        preview.warnings += _warnings(view, old, new)
        return preview.sealed()

    def step_prepare(self, run: Run[ReplaceDiskParams]) -> str:
        view = current_view()
        _, new, pool = _meant(view, run)
        check_unchanged(run, [run.params.by], pool.name)
        prepare(run, serials_by_node(view, [new]), pool.name, pool.encrypted)
        return f"{new.name} prepared."

    def step_check(self, run: Run[ReplaceDiskParams]) -> str:
        view = current_view()
        _, new, pool = _meant(view, run)
        read_back(run, serials_by_node(view, [new]), pool.name, pool.encrypted)
        return f"{new.name} shows the pool's mark."

    def step_swap(self, run: Run[ReplaceDiskParams], session: Session) -> str:
        was, by, pool = _meant(current_view(), run)
        check_unchanged(run, [run.params.by], pool.name)
        rows = {r.id: r for r in store_disks.locked(session, [was.number, by.number])}
        old, new = rows[was.number], rows[by.number]
        if new.pool_id is not None or old.pool_id is None:
            raise NotPossible(
                f"{new.name} can no longer be taken.", next_step="Withdraw this change and preview again."
            )
        store_disks.take_place(new, old)
        return mark(session, [old.id])

    def step_drain(self, run: Run[ReplaceDiskParams]) -> str:
        old, new, pool = _meant(current_view(), run)
        return drain(run, pool.name, [old.number], np.array([new.number], dtype=np.int32))

    def step_release(self, run: Run[ReplaceDiskParams]) -> str:
        return blank(run, [_meant(current_view(), run)[0].number])

    def step_part(self, run: Run[ReplaceDiskParams], session: Session) -> str:
        return part(session, [_meant(current_view(), run)[0].number])

    def step_bind(self, run: Run[ReplaceDiskParams]) -> str:
        return bind(run, _meant(current_view(), run)[2].name)

    def stop(self, run: Run[ReplaceDiskParams]) -> None:
        stop_moving(run)

    def withdraw(self, run: Run[ReplaceDiskParams]) -> None:
        """Before the swap the new disk is blanked again; after it, it has joined and stays, and the old one
        is in use as before.
        """
        run.refuse_once("begun", "release", f"{run.params.disk} is being blanked")
        view = current_view()
        old, new = run.disk(view, run.params.disk), run.disk(view, run.params.by)
        if new.pool < 0:
            release(run, serials_by_node(view, [new]))
        elif old.pool >= 0:
            call_off(run, [old.number])


def _meant(view: SiteView, run: Run[ReplaceDiskParams]) -> tuple[Disk, Disk, Pool]:
    """The disk that goes, the one that comes, and their pool: that of the first or, once it has gone, of the
    other.
    """
    old, new = run.disk(view, run.params.disk), run.disk(view, run.params.by)
    row = old.pool if old.pool >= 0 else new.pool
    if row < 0:
        raise NotPossible(f"{old.name} is in no pool any more.", next_step="Withdraw this change.")
    return old, new, view.pools[row]


def _joined(view: SiteView, pool: Pool, old: Disk, new: Disk) -> Disk:
    return replace(new, pool=view.pool_row(pool), role=old.role, tier=old.tier, reasons=())


def _candidates(view: SiteView, old: Disk) -> str:
    """Fit disks that could take a disk's place, those of its own node first."""
    fit = [
        d
        for d in view.disks
        if d.role == Role.UNCLAIMED
        and alike((d.media, d.bus), (old.media, old.bus))
        and disk_blocker(view, d) is None
    ]
    fit.sort(key=lambda d: (d.node != old.node, d.size_bytes < old.size_bytes))
    return (
        f"{say_list([d.name for d in fit])} {'is' if len(fit) == 1 else 'are'} fit."
        if fit
        else "No fit disk of its kind is known; put one in first."
    )


def _pooled_in(view: SiteView, pool: Pool, level: Level, domain: int) -> int:
    """Bytes of a pool's capacity disks in a domain (by row)."""
    rows = view.in_pool(pool)
    return sum(view.disks[r].size_bytes for r in rows[view.domain_of(level)[rows] == domain].tolist())


def _warnings(view: SiteView, old: Disk, new: Disk) -> list[Note]:
    found = []
    if not alike((old.media, old.bus), (new.media, new.bus)):
        found.append(
            Note(
                sentence=f"{new.name} is {class_of(new.media, new.bus).words}, {old.name} is "
                f"{class_of(old.media, old.bus).words}."
            )
        )
    pool = view.pools[old.pool]
    after = with_disks(view, (_joined(view, pool, old, new), replace(old, pool=-1, role=Role.UNCLAIMED)))
    old_row, new_row = (int(r) for r in view.row_of_number[[old.number, new.number]])
    if new.size_bytes < old.size_bytes:
        words = f"{new.name} has {say_size(new.size_bytes)}, {old.name} {say_size(old.size_bytes)}"
        if old.role == Role.CAPACITY:
            over = int(view.disk_used[old_row] - after.disk_slots[new_row]) * pool.extent_bytes
            words += (
                f"; {say_size(over)} of what it holds go" if over > 0 else "; none of what it holds has to go"
            )
            words += " elsewhere"
        found.append(Note(sentence=f"{words}."))
    for level in (Level.RACK, Level.NODE):
        was, becomes = view.domain_of(level)[old_row], view.domain_of(level)[new_row]
        if was != becomes:
            has = [_pooled_in(after, pool, level, int(domain)) for domain in (becomes, was)]
            names = [view.domain_names(level)[int(domain)] for domain in (becomes, was)]
            sums = " and ".join(f"{name} {say_size(bytes_)}" for name, bytes_ in zip(names, has, strict=True))
            found.append(
                Note(
                    sentence=f"{new.name} stands in another {level}: of the pool's disks {sums} would be "
                    "there."
                )
            )
            break
    if new.watch:
        found.append(Note(sentence=f"{new.name} needs a look: {say_list(list(new.watch))}."))
    return found
