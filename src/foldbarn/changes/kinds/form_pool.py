"""Forming a pool from chosen disks."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import ClassVar

from pydantic import Field

from foldbarn.changes.engine.kind import Kind, Params, register
from foldbarn.changes.engine.preview import DomainRow, LedgerOut, Note, PlannedStep, Preview, Row
from foldbarn.changes.engine.runner import Run
from foldbarn.changes.kinds.disks import (
    OverrideIn,
    bind,
    check_unchanged,
    choice_blockers,
    chosen_disks,
    meant_disks,
    overrides_now,
    overrides_of,
    overrides_so_far,
    prepare,
    read_back,
    release,
    serials_by_node,
    sizes_of,
)
from foldbarn.changes.kinds.effects import role_rows
from foldbarn.core.capacity import LEDGER_LABELS, PoolSpace, by_domain, pool_space, stranded_slots
from foldbarn.core.errors import BarnError, NotPossible
from foldbarn.core.figures import Part, make_figure
from foldbarn.core.healing import headroom_sentence
from foldbarn.core.media import classes_of
from foldbarn.core.names import check_name, natural_key
from foldbarn.core.protection import MOST_COPIES, Level, Protection
from foldbarn.core.roles import Assignment, Serves, assign_roles, cache_concerns, endurance, expected_writes
from foldbarn.core.site import Disk, Pool, Priority, Role, SiteView
from foldbarn.core.touching import Meant, Thing, Touch, alone
from foldbarn.core.units import GIB, MIB, TIB, say_binary, say_count, say_list, say_size
from foldbarn.store import disks as store_disks
from foldbarn.store import pools as store_pools
from foldbarn.store.database import Session, announce, transaction
from foldbarn.store.tables import PoolRow
from foldbarn.store.views import current_view


class PoolSettings(Params):
    """What can be set of a pool, also later. Sizes in bytes, rates in bytes per second over all disks (0: no
    limit).
    """

    copies: int = 3
    level: Level = Level.RACK
    headroom: Level | None = Level.NODE
    headroom_losses: int = Field(default=1, ge=1, le=5)
    fill_line: float = Field(default=0.85, gt=0.1, le=1.0)
    allocation_bytes: int = Field(default=MIB, ge=4096, le=TIB)
    overcommit_cap: float = Field(default=1.0, gt=0, le=100)
    rebuild_rate: int = Field(default=0, ge=0, le=10**13)
    level_rate: int = Field(default=0, ge=0, le=10**13)
    priority: Priority = Priority.CONSUMERS
    daily_writes: int = Field(default=0, ge=0, le=10**18)


SETTINGS = tuple(PoolSettings.model_fields)


class FormPoolParams(PoolSettings):
    """A pool as wished for. Disks by name. serves: what the fastest of several media classes is for;
    overrides: other roles, by disk name.
    """

    name: str
    disks: list[str]
    extent_bytes: int = Field(default=GIB, ge=64 * MIB, le=64 * GIB)
    serves: Serves = "cache"
    overrides: dict[str, OverrideIn] = Field(default_factory=dict)
    encrypted: bool = False


def pool_as(params: PoolSettings, number: int, name: str, extent_bytes: int, encrypted: bool) -> Pool:
    """The pool that these settings describe."""
    return Pool(
        number,
        name,
        extent_bytes,
        Protection(params.copies, params.level),
        params.headroom,
        params.fill_line,
        False,
        params.headroom_losses,
        params.allocation_bytes,
        params.overcommit_cap,
        encrypted,
        params.rebuild_rate,
        params.level_rate,
        params.priority,
        params.daily_writes,
    )


@register
class FormPool(Kind[FormPoolParams]):
    """claim (ours), prepare (agents), check (read back from agents), bind (agents, where there is cache),
    open (ours).
    """

    name: ClassVar[str] = "form-pool"
    params: ClassVar[type[Params]] = FormPoolParams
    inside: ClassVar[frozenset[str]] = frozenset({"claim"})

    def about(self, params: FormPoolParams) -> str:
        return params.name.strip()

    def meant(self, view: SiteView, params: FormPoolParams) -> Meant:
        return Meant(disks=tuple(view.disk(n) for n in params.disks))

    def touches(self, view: SiteView, params: FormPoolParams) -> list[Touch]:
        return [alone(Thing.DISK, d.number) for d in self.meant(view, params).disks]

    def preview(self, view: SiteView, params: FormPoolParams) -> Preview:
        chosen = chosen_disks(view, params.disks)
        blockers = _name_blockers(view, params) + choice_blockers(view, params.disks)
        assigned: list[Assignment] = []
        try:
            assigned = assign_roles(chosen, params.serves, overrides_of(params.overrides))
        except BarnError as error:
            blockers.append(Note.of(error))
            assigned = assign_roles(chosen, params.serves, overrides_so_far(params.overrides))
        preview = Preview(
            kind=self.name,
            title=f"Form {params.name.strip() or 'a pool'}",
            summary=f"From {say_count(len(chosen), 'disk')} of "
            f"{say_count(len({d.node for d in chosen}), 'node')}.",
            revision=view.revision,
            steps=[
                PlannedStep(
                    name="claim",
                    title=f"Claim {say_count(len(chosen), 'disk')}",
                    detail="From here no other change can take them.",
                ),
                PlannedStep(
                    name="prepare",
                    title="Prepare each disk",
                    detail="The agents write the pool's mark and its metadata.",
                    seconds=1,
                ),
                PlannedStep(
                    name="check",
                    title="Read the disks back",
                    detail="Each must show the pool's mark before the pool opens.",
                    seconds=1,
                ),
            ],
            domain_level=params.level.value,
            blockers=blockers,
            disk_sizes=sizes_of(chosen),
        )
        if any(a.role == Role.CACHE for a in assigned):
            preview.steps.append(
                PlannedStep(
                    name="bind",
                    title="Bind cache devices to disks",
                    detail="Evenly, within each node.",
                    seconds=1,
                )
            )
        preview.roles = role_rows(view, assigned)
        preview.blockers += _shape_blockers(view, params, assigned)
        if assigned and 1 <= params.copies <= MOST_COPIES and any(a.role == Role.CAPACITY for a in assigned):
            _effects(preview, view, params, assigned)
        return preview.sealed()

    def step_claim(self, run: Run[FormPoolParams], session: Session) -> str:
        params, view = run.params, current_view()
        check_unchanged(run, params.disks, params.name.strip())
        check_name(params.name, "pool", store_pools.names(session))
        chosen = meant_disks(run, view, params.disks)
        rows = store_disks.locked(session, [d.number for d in chosen])
        if taken := [d.name for d in rows if d.role != Role.UNCLAIMED]:
            raise NotPossible(
                f"{say_list(sorted(taken, key=natural_key))} can no longer be claimed.",
                next_step="Withdraw this change and preview again.",
            )
        settings = params.model_dump(mode="json", include=set(SETTINGS))
        row = PoolRow(
            name=params.name.strip(),
            extent_bytes=params.extent_bytes,
            encrypted=params.encrypted,
            change_id=run.change,
            **settings,
        )
        number = store_pools.add(session, row)
        overrides = overrides_now(run, view, params.overrides)
        roles = {a.disk: a for a in assign_roles(chosen, params.serves, overrides)}
        for disk in rows:
            store_disks.join(disk, number, roles[disk.name])
        return f"{say_count(len(rows), 'disk')} claimed."

    def step_prepare(self, run: Run[FormPoolParams]) -> str:
        check_unchanged(run, run.params.disks, run.params.name.strip())
        by_node = _serials_by_node(run)
        prepare(run, by_node, run.params.name.strip(), run.params.encrypted)
        return (
            f"{say_count(sum(map(len, by_node.values())), 'disk')} prepared on "
            f"{say_count(len(by_node), 'node')}."
        )

    def step_check(self, run: Run[FormPoolParams]) -> str:
        read_back(run, _serials_by_node(run), run.params.name.strip(), run.params.encrypted)
        with run.writing() as session:
            made = store_pools.of_change(session, run.change)
            if made is not None:
                made.forming = False
            announce(session, "site")
        return "Every disk shows the pool's mark."

    def step_bind(self, run: Run[FormPoolParams]) -> str:
        return bind(run, run.params.name.strip())

    def withdraw(self, run: Run[FormPoolParams]) -> None:
        release(run, _serials_by_node(run))
        with run.writing() as session:
            made = store_pools.of_change(session, run.change)
            if made is not None:
                for disk in store_disks.of_pool(session, made.id):
                    store_disks.leave(disk)
                store_pools.delete(session, made)
            announce(session, "site")


def _serials_by_node(run: Run[FormPoolParams]) -> dict[int, list[str]]:
    """Of the pool that this change has made, and of no other with its name."""
    with transaction() as session:
        made = store_pools.of_change(session, run.change)
    view = current_view()
    pool = next((p for p in view.pools if made is not None and p.number == made.id), None)
    return serials_by_node(view, view.all_of(pool)) if pool else {}


def _name_blockers(view: SiteView, params: FormPoolParams) -> list[Note]:
    found: list[Note] = []
    try:
        check_name(params.name, "pool", [p.name for p in view.pools])
    except BarnError as error:
        found.append(Note.of(error))
    if params.encrypted and (view.cluster is None or not view.cluster.encrypted):
        found.append(
            Note(
                sentence="There is no data key to encrypt with.",
                about="encrypted",
                next_step="Form the cluster with a passphrase first.",
            )
        )
    return found


def _shape_blockers(view: SiteView, params: FormPoolParams, assigned: list[Assignment]) -> list[Note]:
    """What stands against the protection on these disks."""
    if not 1 <= params.copies <= MOST_COPIES:
        return [
            Note(
                sentence=f"A pool's usual protection has between 1 and {MOST_COPIES} copies, not "
                f"{params.copies}.",
                about="copies",
            )
        ]
    capacity = [view.disk(a.disk) for a in assigned if a.role == Role.CAPACITY]
    if assigned and not capacity:
        return [
            Note(
                sentence="No disk would be capacity, so the pool could hold nothing.",
                about="disks",
                next_step="Leave some disks as capacity.",
            )
        ]
    domains = {int(view.domain_of(params.level)[_row(view, d)]) for d in capacity}
    if capacity and len(domains) < params.copies:
        sentence = (
            f"{params.copies} copies need {say_count(params.copies, params.level.value)}; the chosen "
            f"disks lie in {len(domains)}."
        )
        return [
            Note(
                sentence=sentence,
                about="copies",
                next_step=f"Choose disks in another {params.level.value}, or fewer copies.",
            )
        ]
    if capacity and _formed(view, params, assigned, params.copies)[2].usable == 0:
        return [
            Note(
                sentence="The pool would be too small to hold one extent of "
                f"{say_binary(params.extent_bytes)}.",
                about="disks",
            )
        ]
    return []


def _row(view: SiteView, disk: Disk) -> int:
    return int(view.row_of_number[disk.number])


def _formed(
    view: SiteView, params: FormPoolParams, assigned: list[Assignment], copies: int
) -> tuple[SiteView, Pool, PoolSpace]:
    """The site with the pool as it would be with this many copies, and its room."""
    pool = pool_as(
        params.model_copy(update={"copies": copies}),
        -1,
        params.name.strip(),
        params.extent_bytes,
        params.encrypted,
    )
    roles = {a.disk: a for a in assigned}
    row = len(view.pools)
    disks = tuple(
        replace(d, pool=row, role=roles[d.name].role, tier=roles[d.name].tier) if d.name in roles else d
        for d in view.disks
    )
    formed = replace(view, pools=(*view.pools, pool), disks=disks)
    return formed, pool, pool_space(formed, pool)


def _effects(preview: Preview, view: SiteView, params: FormPoolParams, assigned: list[Assignment]) -> None:
    """Fills in what the pool would hold: for two and three copies, and for the number wished for."""
    disks = [view.disk(a.disk) for a in assigned]
    raw = sum(d.size_bytes for d in disks)
    sizes = sorted(Counter(d.size_bytes for d in disks).items())
    by_size = [
        Part("+", f"{say_count(count, 'disk')} of {say_size(size)}", count * size, "bytes")
        for size, count in sizes
    ]
    preview.rows.append(Row(label="Raw", after=make_figure("Raw", "bytes", by_size)))
    for copies in sorted({2, 3, params.copies}):
        _, _, space = _formed(view, params, assigned, copies)
        preview.ledgers.append(LedgerOut.of(f"{copies} copies" if copies > 1 else "1 copy", space.ledger))
        parts = [Part("+", f"{say_count(len(disks), 'disk')}, raw", raw, "bytes")]
        parts += [
            Part("−", label, amount, "bytes")
            for n, label in LEDGER_LABELS.items()
            if n not in {"protection_kept", "free"} and (amount := getattr(space.ledger, n))
        ]
        parts.append(Part("÷", say_count(copies, "copy", "copies"), copies, "count"))
        preview.rows.append(
            Row(
                label=f"Usable with {say_count(copies, 'copy', 'copies')}",
                after=make_figure(f"Usable with {copies} copies", "bytes", parts),
            )
        )
    formed, pool, space = _formed(view, params, assigned, params.copies)
    rows = formed.in_pool(pool)
    slots, spread_of = formed.disk_slots[rows], formed.domain_of(params.level)[rows]
    labels, room = by_domain(slots, spread_of)
    stranded = stranded_slots(slots, spread_of, pool.usual)
    names = view.domain_names(params.level)
    for label, slots_here in zip(labels.tolist(), room.tolist(), strict=True):
        left = stranded[label]
        preview.domains.append(
            DomainRow(
                name=names[label],
                room=slots_here * pool.extent_bytes,
                takes=(slots_here - left) * pool.extent_bytes,
                stranded=left * pool.extent_bytes,
            )
        )
    preview.arriving = {
        formed.disks[r].name: int(formed.disk_slots[r]) * pool.extent_bytes for r in rows.tolist()
    }
    preview.protection = f"Usual protection: {pool.usual.sentence()}."
    capacity = [d for d in formed.all_of(pool) if d.role == Role.CAPACITY]
    cache = [d for d in formed.all_of(pool) if d.role == Role.CACHE]
    writes = expected_writes(pool.daily_writes, space.usable * pool.extent_bytes, pool.usual.copies)
    preview.endurance = [f"{e.sentence('cache device')}." for e in endurance(cache, writes.daily_bytes)] + [
        f"{e.sentence('capacity disk')}."
        for e in endurance([d for d in capacity if d.media != "hdd"], writes.daily_bytes)
    ]
    if preview.endurance:
        preview.endurance.append(f"Counted on {writes.sentence}.")
    preview.warnings += [Note(sentence=s) for s in cache_concerns(cache, capacity, writes.daily_bytes)]
    preview.warnings += _warnings(formed, pool, space, capacity, disks)


def _warnings(
    view: SiteView, pool: Pool, space: PoolSpace, capacity: list[Disk], disks: list[Disk]
) -> list[Note]:
    found = []
    if space.headroom is not None and not space.headroom.possible:
        step = f"Add disks in another {pool.usual.level}, or hold fewer copies."
        found.append(Note(sentence=headroom_sentence(view, pool, space), next_step=step))
    for tier in view.tiers_of(pool):
        kinds = sorted(set(classes_of((d.media, d.bus) for d in capacity if d.tier == tier)))
        if len(kinds) > 1:
            words = (
                f"The disks that hold data are of several kinds ({say_list([k.words for k in kinds])}); "
                "every volume will be as slow as the slowest."
            )
            found.append(Note(sentence=words))
    if space.ledger.stranded * 20 > space.ledger.raw:
        found.append(
            Note(
                sentence=f"{say_size(space.ledger.stranded)} cannot be used, because the {pool.usual.level}s "
                "are uneven."
            )
        )
    found += [Note(sentence=f"{d.name} needs a look: {say_list(list(d.watch))}.") for d in disks if d.watch]
    return found
