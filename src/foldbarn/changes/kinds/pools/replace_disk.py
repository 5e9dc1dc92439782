"""Replacing a disk by another: the new one joins, takes over what the old one holds, and the old one goes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import ClassVar

from foldbarn.changes.engine.effects import AnyEffect, Note, warning
from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.plan import Plan, Planned
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.engine.step import Inside
from foldbarn.changes.kinds.pools.disks import choice_blockers
from foldbarn.changes.kinds.pools.effects import NO_FEWER_COPIES, Moving, said_capacity, with_disks
from foldbarn.changes.kinds.pools.joining import Bind, Prepare, ReadBack, Taken, check_unchanged, taken
from foldbarn.changes.kinds.pools.leaving import (
    Blank,
    Drain,
    LetGo,
    leaving_blockers,
    leaving_effects,
    leaving_touches,
    leaving_warnings,
    mark,
    numbers_of,
    plan_leaving,
    rooms_while_leaving,
    unreadable_blockers,
)
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.pools.media import alike, class_of
from foldbarn.core.pools.only_on import with_disk_instead
from foldbarn.core.pools.protection import Level
from foldbarn.core.site import Disk, Pool, Role, SiteView
from foldbarn.core.touching import Meant
from foldbarn.core.units import say_list, say_size
from foldbarn.store import disks as store_disks
from foldbarn.store import volumes
from foldbarn.store.database import Session, announce
from foldbarn.store.views import current_view


class ReplaceDiskParams(Params):
    """The disk that goes, and the one that takes its place. Names."""

    disk: str
    by: str


class Swap(Inside):
    """The new disk joins the pool in the role of the old one (by number), which gets nothing new from here
    on.
    """

    name: ClassVar[str] = "swap"
    pool: int
    old: int
    new: Taken

    def carry_out(self, run: Run, session: Session) -> str:
        view = current_view()
        [by] = check_unchanged(view, [self.new], view.pool_numbered(self.pool).name)
        rows = {r.id: r for r in store_disks.locked(session, [self.old, by.number])}
        old, new = rows[self.old], rows[by.number]
        if new.pool_id is not None or old.pool_id is None:
            words = f"{new.name} can no longer be taken."
            raise NotPossible(words, next_step="Withdraw this change and preview again.")
        store_disks.take_place(new, old)
        volumes.may_lie_on_too(session, old.id, new.id, instead=True)
        return mark(session, [old.id])

    def take_back(self, run: Run) -> None:
        """The new disk has joined and stays, and the old one is in use as before."""
        with run.writing() as session:
            store_disks.use_again(session, [self.old])
            volumes.may_lie_on_too(session, self.new.disk, self.old, instead=False)
            announce(session, "site")


@register
class ReplaceDisk(Kind[ReplaceDiskParams]):
    """prepare, read back (agents), swap (ours), drain, blank (agents), part (ours), bind (agents)."""

    name: ClassVar[str] = "replace-disk"
    params: ClassVar[type[Params]] = ReplaceDiskParams

    def plan(self, view: SiteView, params: ReplaceDiskParams) -> Plan:
        title = f"Replace {params.disk} by {params.by or 'another disk'}"
        try:
            old, new = _chosen(view, params)
        except BarnError as error:
            return Plan(title=title, about=params.disk, effects=[NO_FEWER_COPIES], blockers=[Note.of(error)])
        pool = view.pools[old.pool]
        blockers = [note.model_copy(update={"about": "by"}) for note in choice_blockers(view, [new.name])]
        if old.retiring:
            blockers.append(Note(sentence=f"{old.name} is being emptied already.", about="disk"))
        effects: list[AnyEffect] = [NO_FEWER_COPIES]
        warnings: list[Note] = []
        seconds = None
        if old.role == Role.CAPACITY and not blockers:
            swapped = with_disk_instead(view, old.number, new.number)
            found, moving = plan_leaving(swapped, pool, [old], [_joined(view, pool, old, new)]), Moving()
            told, seconds = leaving_effects(view, found, moving)
            rooms = rooms_while_leaving(view, found, f"{old.name} let go")
            effects += [*told, said_capacity(rooms), *moving.effects()]
            blockers += unreadable_blockers(view, [old]) + leaving_blockers(view, found)
            warnings += leaving_warnings(view, found)
        return Plan(
            title=title,
            about=params.disk,
            steps=_steps(view, pool, old, new, seconds),
            effects=effects,
            touches=leaving_touches([pool], [old, new]),
            meant=Meant(disks=(old, new)),
            blockers=blockers,
            warnings=warnings + _warnings(view, old, new),
        )


def _chosen(view: SiteView, params: ReplaceDiskParams) -> tuple[Disk, Disk]:
    """The disk that goes and the one that comes. Raises NotFound, NotPossible."""
    old = view.disk(params.disk)
    if old.pool < 0:
        words = f"{old.name} is in no pool."
        raise NotPossible(words, about="disk", next_step="There is nothing to take over.")
    if not params.by:
        words = "Choose the disk that takes its place."
        raise NotPossible(words, about="by", next_step=_candidates(view, old))
    return old, view.disk(params.by)


def _steps(view: SiteView, pool: Pool, old: Disk, new: Disk, seconds: float | None) -> Sequence[Planned]:
    """seconds: of emptying the old one, where it holds strips."""
    comes, goes = taken([new]), numbers_of([old])
    drain = Planned(
        Drain(pool=pool.number, disks=goes, prefer=(new.number,)),
        f"Move what {old.name} holds",
        f"To {new.name} as far as it has room.",
        seconds=seconds,
    )
    cached = any(d.role == Role.CACHE for d in view.all_of(pool))
    return [
        Planned(
            Prepare(pool=pool.number, disks=comes),
            f"Prepare {new.name}",
            "Its agent writes the pool's mark.",
            seconds=1,
        ),
        Planned(
            ReadBack(pool=pool.number, disks=comes),
            "Read it back",
            "It must show the pool's mark before anything is placed on it.",
            seconds=1,
        ),
        Planned(
            Swap(pool=pool.number, old=old.number, new=comes[0]),
            f"{new.name} takes the place of {old.name}",
            f"From here on {old.name} gets nothing new.",
        ),
        *([drain] if old.role == Role.CAPACITY else []),
        Planned(Blank(disks=goes), f"Blank {old.name}", "If it can be reached.", seconds=1),
        Planned(LetGo(disks=goes), f"Let {old.name} go", "It may be pulled."),
        *([Planned(Bind(pool=pool.number), "Bind cache devices anew", seconds=1)] if cached else []),
    ]


def _joined(view: SiteView, pool: Pool, old: Disk, new: Disk) -> Disk:
    return replace(new, pool=view.pool_row(pool), role=old.role, tier=old.tier, reasons=())


def _candidates(view: SiteView, old: Disk) -> str:
    """Fit disks that could take a disk's place, those of its own node first."""
    fit = [d for d in view.disks if view.is_fit(d) and alike((d.media, d.bus), (old.media, old.bus))]
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
        kinds = class_of(new.media, new.bus).words, class_of(old.media, old.bus).words
        found.append(warning("other-media", f"{new.name} is {kinds[0]}, {old.name} is {kinds[1]}."))
    pool = view.pools[old.pool]
    after = with_disks(view, (_joined(view, pool, old, new), replace(old, pool=-1, role=Role.UNCLAIMED)))
    old_row, new_row = (int(r) for r in view.row_of_number[[old.number, new.number]])
    if new.size_bytes < old.size_bytes:
        words = f"{new.name} has {say_size(new.size_bytes)}, {old.name} {say_size(old.size_bytes)}"
        if old.role == Role.CAPACITY:
            over = int(view.disk_used[old_row] - after.disk_slots[new_row]) * pool.strip_bytes
            goes = f"{say_size(over)} of what it holds go" if over > 0 else "none of what it holds has to go"
            words = f"{words}; {goes} elsewhere"
        found.append(warning("smaller", f"{words}."))
    for level in (Level.RACK, Level.NODE):
        was, becomes = view.domain_of(level)[old_row], view.domain_of(level)[new_row]
        if was != becomes:
            has = [_pooled_in(after, pool, level, int(domain)) for domain in (becomes, was)]
            names = [view.domain_names(level)[int(domain)] for domain in (becomes, was)]
            sums = " and ".join(f"{name} {say_size(bytes_)}" for name, bytes_ in zip(names, has, strict=True))
            words = f"{new.name} stands in another {level}: of the pool's disks {sums} would be there."
            found.append(warning("other-domain", words))
            break
    if new.watch:
        words = f"{new.name} needs a look: {say_list(list(new.watch))}."
        found.append(warning("needs-a-look", words, about=new.name))
    return found
